import { endsArchive } from "../archives/tar-headers";
import { beginsWithin, endsWithin, goesOnWith, isTar, type TarSeam } from "../archives/tar-parts";
import { type ByteSource, WindowSource } from "../bytes/byte-source";
import { ConcatSource } from "../bytes/concat-source";
import type { Container, Neighbours } from "./container";

const RECORD = 512;
/** Files beside a part that are looked at for the others. */
const MOST_BESIDE = 200;

interface Part {
  readonly name: string;
  readonly source: ByteSource;
  readonly begins: TarSeam | null;
}

/**
 * Puts the parts of a TAR archive together that was written over several media: each further one begins with the rest of the file in which the
 * one before breaks off, and says of which file, and from which byte on; where one ends among headers, the next is known by the number in its name and by
 * these. null: the chosen file is no such part, or no other is beside it.
 */
export function openTarParts(file: ByteSource, neighbours: Neighbours): Container | null {
  const isArchive = isTar(file);
  if (!isArchive && !mayBeginAmidst(file)) return null;
  const stem = stemOf(neighbours.name);
  const own: Part = { name: neighbours.name, source: file, begins: isArchive ? beginsWithin(file) : null };
  const parts = [own];
  for (const name of neighbours
    .list()
    .filter((each) => each !== own.name && stemOf(each) === stem)
    .slice(0, MOST_BESIDE)) {
    const source = neighbours.open(name);
    // One that begins amidst the headers of a file is no archive by itself.
    if (source) parts.push({ name, source, begins: isTar(source) ? beginsWithin(source) : null });
  }
  if (parts.length === 1) return null;
  const ends = new Map<Part, TarSeam | null>();
  const endOf = (part: Part) => {
    if (!ends.has(part)) ends.set(part, endsWithin(part.source));
    return ends.get(part) ?? null;
  };
  const row = [own];
  const byName: string[] = [];
  let isSure = true;
  /** Backups of files that did not change between them go on in the same way: of several parts the one with the most alike name is meant. */
  const nearest = (to: Part, candidates: readonly Part[]): Part | undefined => {
    const alike = (part: Part) => sharedStart(part.name, to.name);
    const most = Math.max(0, ...candidates.map(alike));
    const best = candidates.filter((part) => alike(part) === most);
    if (best.length > 1) isSure = false;
    return best[0];
  };
  const others = () => parts.filter((part) => !row.includes(part));
  const joined = () => new ConcatSource(row.map((part, index) => (index === 0 ? part.source : behindHeader(part))));
  /** One part goes on in another amidst the headers of a file: that begins with the rest of this file, from its first byte on, or the number in its name says so. */
  const goesOn = (before: Part, source: () => ByteSource, part: Part): boolean => {
    const isNumbered = part.begins === null && isNumberedNext(before.name, part.name) && part.source.size <= before.source.size;
    if (!isNumbered && part.begins?.offset !== 0) return false;
    if (!goesOnWith(source(), behindHeader(part), part.begins?.path ?? null)) return false;
    if (isNumbered) byName.push(part.name);
    return true;
  };
  for (let before: Part | undefined = own; before; ) {
    const first: Part = before;
    const within = first.begins ? others().filter((part) => meet(endOf(part), first.begins)) : [];
    before = within.length > 0 ? nearest(first, within) : others().find((part) => goesOn(part, () => part.source, first));
    if (before) row.unshift(before);
  }
  for (let next: Part | undefined = row.at(-1); next; ) {
    const last: Part = next;
    // One that begins amidst headers says where its files are only together with the one before.
    if (last.begins?.offset === 0 || byName.includes(last.name)) ends.set(last, endsWithin(joined()));
    // Where no other part goes on with a file, its own end need not be looked for, which takes long.
    const within = others().filter(({ begins }) => begins && meet(endOf(last), begins));
    next = within.length > 0 ? nearest(last, within) : others().find((part) => goesOn(last, joined, part));
    if (next) row.push(next);
  }
  const [first, last] = [row[0], row.at(-1)];
  if (row.length === 1 || !first || !last) return null;
  const notes = [`An archive in ${row.length} parts, “${first.name}” to “${last.name}”.`];
  if (!isSure) notes.push(NOT_SURE);
  if (byName.length > 0) notes.push(BY_NAME(byName));
  if (first.begins) notes.push(MISSING("before", first.name));
  if (endOf(last) || !endsArchive(last.source)) notes.push(MISSING("after", last.name));
  // The header of a file says how long all of it is: its rest follows without the further header.
  return { kind: "split", form: null, disk: joined(), identity: null, created: null, notes };
}

/** Records of names or attributes with which a part may begin, before the header they are about. */
const MOST_AHEAD = 4;

/** Whether a file may begin amidst the headers of a file of an archive: the next one is not far. */
const mayBeginAmidst = (file: ByteSource): boolean =>
  Array.from({ length: MOST_AHEAD }, (_, index) => (index + 1) * RECORD).some(
    (at) => at + RECORD <= file.size && isTar(new WindowSource(file, at, file.size - at)),
  );

const BY_NAME = (names: readonly string[]) =>
  `That ${names.map((name) => `“${name}”`).join(", ")} ${names.length === 1 ? "belongs" : "belong"} there was seen by the number in the name, and by what stands where the parts meet.`;
const NOT_SURE =
  "More than one file beside it could be the next part: move those of other backups elsewhere if the files in it are not right.";
const MISSING = (where: "before" | "after", name: string) =>
  `The part ${where} “${name}” is not beside it: put it into the same folder and open the archive again if it is found.`;

function behindHeader({ source, begins }: Part): ByteSource {
  const at = begins?.at ?? 0;
  return new WindowSource(source, at, source.size - at);
}

/** Whether one part goes on where another ends. */
const meet = (end: TarSeam | null, begins: TarSeam | null): boolean =>
  end !== null && begins !== null && end.path === begins.path && end.offset === begins.offset;

/** Letters in which two names begin alike. */
function sharedStart(one: string, other: string): number {
  let length = 0;
  while (length < one.length && one[length] === other[length]) length += 1;
  return length;
}

/** Whether one name is the other with the next number in it; a first part may have none, and the next then has 2 (common practice, no published source). */
function isNumberedNext(one: string, other: string): boolean {
  const [from, to] = [one, other].map((name) => name.toLowerCase().split(/(\d+)/));
  if (!from || !to) return false;
  if (from.length !== to.length) return from.length < to.length && Number(to.at(-2)) === 2;
  const changed = from.flatMap((piece, index) => (piece === to[index] ? [] : [index]));
  const [at] = changed;
  // Every second piece is a number.
  return changed.length === 1 && at !== undefined && at % 2 === 1 && Number(to[at]) === Number(from[at]) + 1;
}

/** What the names of parts have in common: without numbers, and what sets them off. */
const stemOf = (name: string): string => name.toLowerCase().replace(/[\d\s._()-]+/g, "");

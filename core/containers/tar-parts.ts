import { beginsWithin, endsWithin, isTar, type TarSeam } from "../archives/tar-parts";
import { type ByteSource, WindowSource } from "../bytes/byte-source";
import { ConcatSource } from "../bytes/concat-source";
import type { Container, Neighbours } from "./container";

/** Files beside a part that are looked at for the others. */
const MOST_BESIDE = 200;

interface Part {
  readonly name: string;
  readonly source: ByteSource;
  readonly begins: TarSeam | null;
}

/**
 * Puts the parts of a TAR archive together that was written over several media: each further one begins with the rest of the file in which the
 * one before breaks off, and says of which file, and from which byte on. null: the chosen file is no such part, or no other is beside it.
 */
export function openTarParts(file: ByteSource, neighbours: Neighbours): Container | null {
  if (!isTar(file)) return null;
  const stem = stemOf(neighbours.name);
  const own: Part = { name: neighbours.name, source: file, begins: beginsWithin(file) };
  const parts = [own];
  for (const name of neighbours
    .list()
    .filter((each) => each !== own.name && stemOf(each) === stem)
    .slice(0, MOST_BESIDE)) {
    const source = neighbours.open(name);
    if (source && isTar(source)) parts.push({ name, source, begins: beginsWithin(source) });
  }
  if (parts.length === 1 || parts.every(({ begins }) => begins === null)) return null;
  const ends = new Map<Part, TarSeam | null>();
  const endOf = (part: Part) => {
    if (!ends.has(part)) ends.set(part, endsWithin(part.source));
    return ends.get(part) ?? null;
  };
  const row = [own];
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
  for (let next: Part | undefined = own; next; ) {
    const end = endOf(next);
    next = nearest(
      next,
      others().filter(({ begins }) => meet(end, begins)),
    );
    if (next) row.push(next);
  }
  for (let before: Part | undefined = own; before; ) {
    const { begins }: Part = before;
    before = nearest(before, begins ? others().filter((part) => meet(endOf(part), begins)) : []);
    if (before) row.unshift(before);
  }
  const [first, last] = [row[0], row.at(-1)];
  if (row.length === 1 || !first || !last) return null;
  const notes = [`An archive in ${row.length} parts, “${first.name}” to “${last.name}”.`];
  if (!isSure) notes.push(NOT_SURE);
  if (first.begins) notes.push(MISSING("before", first.name));
  if (endOf(last)) notes.push(MISSING("after", last.name));
  // The header of a file says how long all of it is: its rest follows without the further header.
  const disk = new ConcatSource(row.map((part, index) => (index === 0 ? part.source : behindHeader(part))));
  return { kind: "split", form: null, disk, identity: null, created: null, notes };
}

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

/** What the names of parts have in common: without numbers, and what sets them off. */
const stemOf = (name: string): string => name.toLowerCase().replace(/[\d\s._()-]+/g, "");

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
  const others = () => parts.filter((part) => !row.includes(part));
  for (let next: Part | undefined = own; next; ) {
    const end = endOf(next);
    next = others().find(({ begins }) => meet(end, begins));
    if (next) row.push(next);
  }
  for (let before: Part | undefined = own; before; ) {
    const { begins }: Part = before;
    before = begins ? others().find((part) => meet(endOf(part), begins)) : undefined;
    if (before) row.unshift(before);
  }
  const [first, last] = [row[0], row.at(-1)];
  if (row.length === 1 || !first || !last) return null;
  const notes = [`An archive in ${row.length} parts, “${first.name}” to “${last.name}”.`];
  if (first.begins) notes.push(MISSING("before", first.name));
  if (endOf(last)) notes.push(MISSING("after", last.name));
  // The header of a file says how long all of it is: its rest follows without the further header.
  const disk = new ConcatSource(row.map((part, index) => (index === 0 ? part.source : behindHeader(part))));
  return { kind: "split", form: null, disk, identity: null, created: null, notes };
}

const MISSING = (where: "before" | "after", name: string) =>
  `The part ${where} “${name}” is not beside it: put it into the same folder and open the archive again if it is found.`;

function behindHeader({ source, begins }: Part): ByteSource {
  const at = begins?.at ?? 0;
  return new WindowSource(source, at, source.size - at);
}

/** Whether one part goes on where another ends. */
const meet = (end: TarSeam | null, begins: TarSeam | null): boolean =>
  end !== null && begins !== null && end.path === begins.path && end.offset === begins.offset;

/** What the names of parts have in common: without numbers, and what sets them off. */
const stemOf = (name: string): string => name.toLowerCase().replace(/[\d\s._()-]+/g, "");

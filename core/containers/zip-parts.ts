import { BlockReader } from "../bytes/block-reader";
import { type ByteSource, readBytes } from "../bytes/byte-source";
import { ConcatSource } from "../bytes/concat-source";
import { lostPart } from "../bytes/lost-part";
import { partsAtEnd } from "../formats/zip/members";
import type { Container, Neighbours } from "./container";

const MOST_PARTS = 20_000;
/** "PK": parts that hold the beginning or the end of an archive begin with it, and no other kind of file is named so. */
const MARK = [0x50, 0x4b];

/** The number of a part by its name: `.z01`, `.z02` …; 0 for the last one, `.zip`; null: it is no such name. */
function partOf(name: string): { base: string; number: number } | null {
  const found = /^(.+)\.z(ip|\d{2,4})$/i.exec(name);
  return found ? { base: found[1] as string, number: found[2]?.toLowerCase() === "ip" ? 0 : Number(found[2]) } : null;
}

/**
 * An archive that is split into parts that count their places anew (APPNOTE, 8.5: `.z01`, `.z02` … and `.zip` at the end), whichever of them was
 * chosen; null when there are no others beside it. A part that is missing in the midst counts as bytes that cannot be read.
 */
export function openZipParts(file: ByteSource, neighbours: Neighbours): Container | null {
  const own = partOf(neighbours.name);
  if (!own) return null;
  const names = new Map<number, string>();
  for (const name of neighbours.list()) {
    const other = partOf(name);
    if (other && other.base.toLowerCase() === own.base.toLowerCase()) names.set(other.number, name);
  }
  const open = (number: number) =>
    number === own.number ? file : (names.has(number) && neighbours.open(names.get(number) as string)) || null;
  const end = open(0);
  // The end of the archive says how many there are, itself among them.
  const last = Math.max(own.number, ...names.keys(), end ? partsAtEnd(new BlockReader(end)) - 1 : 0);
  if (last === 0 || last > MOST_PARTS) return null;
  const sizes: number[] = [];
  const parts = Array.from({ length: last }, (_, index) => open(index + 1));
  for (const part of parts) if (part) sizes.push(part.size);
  if (!sizes.length) return null;
  const first = parts[0];
  if (first && !MARK.every((byte, at) => readBytes(first, 0, 2)[at] === byte)) return null;
  const notes: string[] = [];
  const missing = parts.flatMap((part, index) => (part ? [] : [index + 1]));
  if (missing.length > 0) notes.push(NOT_THERE(missing.map((number) => `${own.base}.z${String(number).padStart(2, "0")}`)));
  if (!end) notes.push(NOT_THERE([`${own.base}.zip`]));
  // All parts but the last are as large as one another.
  const row = [...parts.map((part) => part ?? lostPart(Math.max(...sizes))), ...(end ? [end] : [])];
  const seams = row.slice(0, -1).map((_, index) => row.slice(0, index + 1).reduce((sum, { size }) => sum + size, 0));
  return { kind: "split", form: null, disk: Object.assign(new ConcatSource(row), { seams }), identity: null, created: null, notes };
}

const NOT_THERE = (names: readonly string[]) =>
  `${names.map((name) => `“${name}”`).join(", ")} ${names.length === 1 ? "is" : "are"} not beside it: what stood there is lost, and files that reach into it are not whole.`;

import type { BlockReader } from "../bytes/block-reader";
import { type Layout, layoutOf, type Segment } from "../bytes/layout";
import type { Range } from "../bytes/range-set";
import { SPARSE, tarNumber } from "../formats/archives";

const RECORD = 512;
/** Stretches of one file, and bytes of their list where it stands before the data. */
const MOST_RUNS = 1 << 20;
const MOST_LIST = 1 << 24;

/** A file that is kept without its holes (GNU tar manual, "Storing Sparse Files"). */
export interface SparseMap {
  /** Bytes of the file with its holes. */
  readonly size: number;
  /** The stretches of the file that are kept, one behind the other. */
  readonly runs: readonly Range[];
  /** Bytes of the list that stand before the data. */
  readonly before: number;
}

/** What extended headers say of a file that is kept without its holes ("PAX Format, Versions 0.0, 0.1 and 1.0"). */
export interface PaxSparse {
  /** Its name, where the header has another. */
  name?: string;
  /** Bytes of the file with its holes. */
  size?: number;
  /** 1: the list stands before the data; else in the extended header. */
  major?: number;
  /** Where each stretch begins and how long it is, by turns. */
  numbers: number[];
}

/** Takes a record of an extended header that is about holes. */
export function takeSparse(sparse: PaxSparse, key: string, value: string): void {
  const number = Number(value);
  if (key === "GNU.sparse.name") sparse.name = value;
  else if (key === "GNU.sparse.major") sparse.major = number;
  else if (key === "GNU.sparse.size" || key === "GNU.sparse.realsize") sparse.size = number;
  else if (key === "GNU.sparse.offset" || key === "GNU.sparse.numbytes") sparse.numbers.push(number);
  else if (key === "GNU.sparse.map") sparse.numbers = value.split(",", MOST_RUNS * 2 + 1).map(Number);
}

/** Reads the list in the header of a file, and in the records behind it ("Old GNU Format"). @returns null when it is damaged */
export function readGnuMap(reader: BlockReader, header: number): SparseMap | null {
  const numbers: number[] = [];
  const take = (record: Uint8Array, from: number, count: number) => {
    for (let i = 0; i < count; i += 1)
      for (let part = 0; part < 2; part += 1)
        numbers.push(tarNumber(record, from + i * SPARSE.entry + part * SPARSE.number, SPARSE.number));
  };
  const first = reader.bytes(header, RECORD).slice();
  take(first, SPARSE.at, SPARSE.count);
  let goesOn = first[SPARSE.extended] !== 0;
  const last = Math.min(reader.size - RECORD, header + RECORD * (SPARSE.mostBehind - 1));
  for (let at = header + RECORD; goesOn && at <= last; at += RECORD) {
    const record = reader.bytes(at, RECORD).slice();
    take(record, 0, SPARSE.countBehind);
    goesOn = record[SPARSE.extendedBehind] !== 0;
  }
  // Without the rest of its list holes would stand for what is kept.
  return goesOn ? null : mapOf(tarNumber(first, SPARSE.size, SPARSE.number), numbers, 0);
}

/** Reads what extended headers say. @param dataAt where the data of the entry begin @param stored bytes of them; null: the list is damaged */
export function readPaxMap(
  { size = -1, major, numbers }: PaxSparse,
  reader: BlockReader,
  dataAt: number,
  stored: number,
): SparseMap | null {
  if (major !== 1) return mapOf(size, numbers, 0);
  // A number a line: how many stretches there are, then where each begins and how long it is; filled up to a whole record.
  const list = reader.bytes(dataAt, Math.max(0, Math.min(stored, MOST_LIST, reader.size - dataAt)));
  const found: number[] = [];
  let number = 0;
  let digits = 0;
  for (let at = 0; at < list.length; at += 1) {
    const byte = list[at] as number;
    if (byte >= 0x30 && byte <= 0x39) {
      number = number * 10 + byte - 0x30;
      digits += 1;
      continue;
    }
    if (byte !== 0x0a || digits === 0) return null;
    found.push(number);
    [number, digits] = [0, 0];
    const count = found[0] as number;
    if (count > MOST_RUNS) return null;
    if (found.length === 1 + count * 2) return mapOf(size, found.slice(1), Math.ceil((at + 1) / RECORD) * RECORD);
  }
  return null;
}

/** @param numbers where each stretch begins and how long it is, by turns */
function mapOf(size: number, numbers: readonly number[], before: number): SparseMap | null {
  if (!Number.isSafeInteger(size) || size < 0 || numbers.length % 2 !== 0) return null;
  const runs: Range[] = [];
  let last = 0;
  for (let i = 0; i < numbers.length; i += 2) {
    const [start, length] = [numbers[i] as number, numbers[i + 1] as number];
    if (length === 0) continue;
    if (!Number.isSafeInteger(start) || !Number.isSafeInteger(length) || start < last || length < 0 || start + length > size) return null;
    last = start + length;
    runs.push({ start, end: last });
  }
  return { size, runs, before };
}

/**
 * Where the bytes of such a file stand in its archive.
 * @param from its first byte there @param end where its bytes end, or the archive does
 */
export function sparseLayout({ size, runs }: SparseMap, from: number, end: number): Layout {
  const segments: Segment[] = [];
  let [at, begin] = [from, 0];
  for (const { start, end: until } of runs) {
    const length = until - start;
    const there = Math.max(0, Math.min(length, end - at));
    segments.push({ kind: "hole", length: start - begin }, { kind: "disk", at, length: there }, { kind: "lost", length: length - there });
    at += length;
    begin = until;
  }
  segments.push({ kind: "hole", length: size - begin });
  return layoutOf(segments, size);
}

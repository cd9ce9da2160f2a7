import type { BlockReader } from "./block-reader";
import { bzip2Unpacker } from "./bzip2";
import { findMember, GzipMember, isMember } from "./gzip-member";
import type { Trials } from "./inflate-behind";
import type { Break, Stream, Take } from "./packed-stream";
import type { Range } from "./range-set";
import type { Unpacker } from "./unpacker";
import { XZ_MARK, XzUnpacker } from "./xz";

/** A way of compressing a whole file. */
export interface WholeKind {
  /** Plain bytes between places from which it can go on: fewer where its states are small. */
  readonly every: number;
  /** Where a stream begins at or behind a place that is the file's beginning or the end of another stream; null: none does. */
  begins(reader: BlockReader, at: number): number | null;
  /** @param doubt learns of plain bytes of the stream that cannot be known */
  open(reader: BlockReader, at: number, take: Take, doubt: (range: Range) => void, breaks: readonly Break[], trials: Trials): Stream;
  /** Where a stream next begins behind damage, at or behind a place; null: none does. */
  search(reader: BlockReader, from: number, trials: Trials): number | null;
}

/** A stream that compares its checksums itself, and is given up where one does not agree. */
const checked = (stream: Unpacker & { readonly packedEnd: number; readonly checked?: boolean }): Stream => ({
  goOn: () => stream.goOn(),
  get soundTo() {
    return stream.soundTo;
  },
  get brokenAt() {
    return stream.packedEnd;
  },
  state: () => stream.state(),
  resume: (state) => stream.resume(state),
  skip: () => stream.skip?.() ?? false,
  end: () => ({ at: stream.packedEnd, agrees: true, isAsLong: true, isCovered: stream.checked ?? true }),
});

export const GZIP: WholeKind = {
  every: 1 << 21,
  begins: (reader, at) => (isMember(reader, at) ? at : null),
  open: (reader, at, take, doubt, breaks, trials) => new GzipMember(reader, at, take, doubt, breaks, trials),
  search: (reader, from, trials) => findMember(reader, from, reader.size, trials),
};
const BZIP2: WholeKind = {
  every: 1 << 21,
  begins: (reader, at) => (reader.has(at, "BZh") ? at : null),
  open: (reader, at, take) => checked(bzip2Unpacker(reader, at, take)),
  // The first block of a stream begins at a byte, four behind the stream; further ones are found at any bit (`skip`).
  search: (reader, from) => {
    const at = reader.find("1AY&SY", from + 4);
    return at < 0 ? null : at - 4;
  },
};
const XZ: WholeKind = {
  every: 1 << 24,
  begins(reader, at) {
    // Zeros, four at a time, may stand between streams (.xz format 1.1.0, 2.2).
    let next = at;
    while (at > 0 && next + 4 <= reader.size && reader.u32(next) === 0) next += 4;
    return reader.has(next, XZ_MARK) ? next : null;
  },
  open: (reader, at, take) => checked(new XzUnpacker(reader, at, take)),
  search: (reader, from) => {
    const at = reader.find(XZ_MARK, from);
    return at < 0 ? null : at;
  },
};

/** The way in which a file is compressed as a whole; null: in none of these. */
export function kindOf(reader: BlockReader): WholeKind | null {
  if (reader.size < 14) return null;
  return [GZIP, BZIP2, XZ].find(({ begins }) => begins(reader, 0) !== null) ?? null;
}

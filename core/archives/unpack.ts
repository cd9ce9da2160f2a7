import { BlockReader } from "../bytes/block-reader";
import { type ByteSource, MemorySource } from "../bytes/byte-source";
import { unpackBzip2 } from "../bytes/bzip2";
import { InflateError, inflate, TooMuch } from "../bytes/inflate";
import { PastEnd } from "../bytes/past-end";
import { unpackXz, XZ_MARK } from "../bytes/xz";
import { MOST_PLAIN } from "./archive";

/** A compressed file unpacked, as far as it goes. */
export interface Unpacked {
  readonly content: ByteSource;
  /** What is to be known of it; empty: all of it was unpacked. */
  readonly notes: readonly string[];
}

const BREAKS = "This archive is damaged or cut off: what comes behind that place is gone.";
const TOO_LARGE = `This archive unpacks to more than ${MOST_PLAIN >> 20} MiB: what comes behind that is not read yet.`;

/** Unpacks a file compressed as a whole (gzip, RFC 1952; bzip2; xz); null: it is none of these. */
export function unpackWhole(source: ByteSource): Unpacked | null {
  const reader = new BlockReader(source);
  const unpack = kindOf(reader);
  if (!unpack) return null;
  const pieces: Uint8Array[] = [];
  const notes: string[] = [];
  let plain = 0;
  try {
    unpack(reader, (piece) => {
      const room = MOST_PLAIN - plain;
      if (room > 0) pieces.push(piece.slice(0, room));
      plain += piece.length;
      if (plain > MOST_PLAIN) throw new TooMuch();
    });
  } catch (error) {
    if (error instanceof TooMuch) notes.push(TOO_LARGE);
    else if (error instanceof InflateError || error instanceof PastEnd) notes.push(BREAKS);
    else throw error;
  }
  const bytes = Buffer.concat(pieces);
  return { content: new MemorySource(bytes), notes };
}

type Take = (plain: Uint8Array) => void;

function kindOf(reader: BlockReader): ((reader: BlockReader, take: Take) => void) | null {
  if (reader.size < 18) return null;
  if (reader.u16be(0) === 0x1f8b && reader.u8(2) === 8) return unpackGzip;
  if (reader.has(0, "BZh")) return (from, take) => unpackBzip2(from, 0, Number.POSITIVE_INFINITY, take);
  if (reader.has(0, XZ_MARK)) return (from, take) => unpackXz(from, 0, Number.POSITIVE_INFINITY, take);
  return null;
}

/** RFC 1952, 2.3.1: flags of a member. */
const GZIP = { size: 10, extra: 4, name: 8, comment: 16, headerCheck: 2 } as const;

/** All members one after the other. */
function unpackGzip(reader: BlockReader, take: Take): void {
  for (let at = 0; at + 18 <= reader.size && reader.u16be(at) === 0x1f8b; ) {
    const flags = reader.u8(at + 3);
    let next = at + GZIP.size;
    if (flags & GZIP.extra) next += 2 + reader.u16(next);
    const skipText = () => {
      while (reader.u8(next) !== 0) next += 1;
      next += 1;
    };
    if (flags & GZIP.name) skipText();
    if (flags & GZIP.comment) skipText();
    if (flags & GZIP.headerCheck) next += 2;
    at = inflate(reader, next, reader.size, take).end + 8;
  }
}

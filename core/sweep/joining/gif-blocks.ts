import { BlockReader } from "../../bytes/block-reader";
import { readBytes } from "../../bytes/byte-source";
import { PastEnd } from "../../bytes/past-end";
import type { PieceRoom, Pieces } from "./pieces";

/** The GIF89a specification, 18 (screen), 20 (image), 15 (data in blocks of up to 255 bytes, each behind its length), 23 to 26 (extensions), 27 (end). */
const [IMAGE, EXTENSION, END] = [0x2c, 0x21, 0x3b];
/** Blocks shorter than this say nothing of the next. */
const LEAST_FULL = 64;
const MOST_BLOCKS = 1 << 20;
/** Bytes behind a seam that are looked at. */
const MOST_LOOKED_AT = 4096;

const colours = (flags: number) => ((flags & 0x80) !== 0 ? 3 << ((flags & 7) + 1) : 0);

interface Due {
  /** Byte of the file. */
  readonly at: number;
  /** What full blocks of this writer hold: 255 bytes, or 254. */
  readonly full: number;
}

/** The first length of a block of picture data at or behind a byte of the file, by the lengths before it; null: none is due there. */
function lengthDue(pieces: Pieces, from: number): Due | null {
  const reader = new BlockReader(pieces.source());
  try {
    let at = 13 + colours(reader.u8(10));
    let full = 0;
    for (let seen = 0; seen < MOST_BLOCKS && at < from; seen += 1) {
      const kind = reader.u8(at);
      if (kind === EXTENSION) at += 2;
      else if (kind === IMAGE) at += 11 + colours(reader.u8(at + 9));
      else return null;
      for (let length = reader.u8(at); ; length = reader.u8(at)) {
        if (at >= from) return full < LEAST_FULL ? null : { at, full };
        at += 1 + length;
        full = Math.max(full, length);
        if (length === 0) break;
      }
    }
  } catch (error) {
    if (!(error instanceof PastEnd)) throw error;
  }
  return null;
}

/**
 * Whether picture data that go on at a place have their lengths where the data before the seam say: nearly all blocks are full ones,
 * of the same length.
 */
export function goesOnInBlocks(room: PieceRoom, pieces: Pieces): (length: number, next: number) => boolean {
  const due = new Map<number, Due | null>();
  return (length, next) => {
    if (!due.has(length)) due.set(length, lengthDue(pieces, length));
    const first = due.get(length);
    if (!first) return true;
    const { at: from, full } = first;
    // A piece may be one cluster long.
    const bytes = readBytes(room.disk, next, Math.min(room.cluster, MOST_LOOKED_AT, Math.max(0, room.limitOf(next) - next)));
    for (let at = from - length; at < bytes.length; at += full + 1) {
      if (bytes[at] === full) continue;
      // The last block is shorter; behind it stands the end of the data, and then a part or the end of the file.
      const after = at + 1 + (bytes[at] as number);
      if (after + 1 >= bytes.length) return true;
      return bytes[at] === 0 ? isPart(bytes[at + 1]) : bytes[after] === 0 && isPart(bytes[after + 1]);
    }
    return true;
  };
}

const isPart = (byte: number | undefined) => byte === IMAGE || byte === EXTENSION || byte === END;

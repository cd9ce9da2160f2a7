import { BlockReader } from "../../bytes/block-reader";
import { PastEnd } from "../../bytes/past-end";
import type { Extent, Format } from "../../formats/format";
import { runsWithin } from "./crc-runs";
import { landmarksOf, shiftsOf } from "./landmarks";
import { follow, type Joined, type PieceRoom, type Pieces, proves, UNSURE } from "./pieces";

/** Bytes of a chunk, and places of the next one that are tried. */
const MOST_CHUNK = 1 << 26;
const MOST_SHIFTS = 16;

/** Puts a picture together of which a whole piece stands within one chunk (ISO/IEC 15948, 5.3): by the chunk's CRC. @returns null when that is not enough */
export function joinPng(room: PieceRoom, format: Format, pieces: Pieces, extent: Extent): Joined | null {
  const { proven } = extent;
  if (proven === undefined || extent.verdict.verdict !== "damaged") return null;
  try {
    const length = new BlockReader(pieces.source()).u32be(proven);
    if (length > MOST_CHUNK) return null;
    const [from, end] = [proven + 4, proven + 8 + length];
    const inside: number[] = [];
    for (let at = pieces.boundaryBefore(from) + room.cluster; at < end; at += room.cluster) inside.push(at);
    const shifts = landmarksOf(format, pieces, extent).flatMap((landmark) => shiftsOf(room, pieces, landmark));
    for (const shift of [...new Set(shifts)].slice(0, MOST_SHIFTS)) {
      const crc = new BlockReader(room.disk).u32be(end + shift);
      for (const { begins, next, ends, isCertain } of runsWithin(room, pieces, { from, end, crc, shift, inside })) {
        const [first, middle] = [begins - pieces.from, ends - begins];
        const isFree =
          room.freeFrom(pieces.lastAt, first) >= first && room.freeFrom(next, middle) >= middle && room.freeFrom(ends + shift, 1) > 0;
        if (!isFree || pieces.holds(next, begins)) continue;
        const longer = pieces.goingOn(begins, next).goingOn(ends, ends + shift);
        const followed = follow(room, format, longer);
        if (followed && proves(followed, ends)) return { pieces: longer, extent: isCertain ? followed : { ...followed, verdict: UNSURE } };
      }
    }
  } catch (error) {
    if (!(error instanceof PastEnd)) throw error;
  }
  return null;
}

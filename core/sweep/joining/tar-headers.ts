import { BlockReader } from "../../bytes/block-reader";
import { MemorySource } from "../../bytes/byte-source";
import { tarEntry } from "../../formats/archives";
import type { PieceRoom, Pieces } from "./pieces";

const RECORD = 512;
const STEP = 1 << 20;
const MOST_SHIFTS = 64;

/**
 * Where on the disk an archive may go on so that the header of an entry stands at its byte `at` (POSIX.1-2017, pax, "ustar Interchange Format"): disk offset
 * minus byte of the file; the nearest first. Headers that another one leads to are none of these: the entry in which the archive breaks is the last before the first of a piece.
 */
export function tarShifts(room: PieceRoom, pieces: Pieces, at: number): number[] {
  const { disk, cluster } = room;
  const here = pieces.lastAt - pieces.from;
  const from = Math.max(0, here + at - room.effort.reach);
  const to = Math.min(disk.size, here + at + room.effort.reach);
  const block = new Uint8Array(STEP);
  const found: number[] = [];
  const led = new Set<number>();
  for (let place = from + ((((here - from) % RECORD) + RECORD) % RECORD); place < to && !disk.isSpent; place += STEP) {
    const length = Math.min(STEP, to - place);
    disk.read(place, block.subarray(0, length));
    for (let i = 0; i + RECORD <= length; i += RECORD) {
      if (block[i + 257] !== 0x75 || block[i + 258] !== 0x73) continue;
      const entry = tarEntry(new BlockReader(new MemorySource(block.subarray(i, i + RECORD))), 0);
      if (!entry) continue;
      found.push(place + i);
      led.add(place + i + entry.next);
    }
  }
  return found
    .filter((place) => !led.has(place))
    .map((place) => place - at)
    .filter((shift) => shift !== here && (((shift - here) % cluster) + cluster) % cluster === 0)
    .sort((a, b) => Math.abs(a - here) - Math.abs(b - here))
    .slice(0, MOST_SHIFTS);
}

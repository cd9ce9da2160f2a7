import { BlockReader } from "../../bytes/block-reader";
import { MemorySource, WindowSource } from "../../bytes/byte-source";
import { firstFrame } from "../../formats/lossless-audio";
import type { PieceRoom, Pieces } from "./pieces";

/** Bytes of a frame where the beginning of the file does not give the largest one, and of a header. */
const USUAL_FRAME = 1 << 15;
const MOST_HEADER = 16;
const STEP = 1 << 20;
const MOST_PLACES = 4096;

/**
 * Finds clusters in which, or soon behind whose beginning, the frame after the one that is damaged begins: each has a number (RFC 9639, 9.1.5). The nearest first.
 * @param at where the damaged frame begins in the file
 * @returns null when its header is lost, or no frame comes after it: then nothing says where it goes on
 */
export function placesOfNextFrame(room: PieceRoom, pieces: Pieces, at: number): number[] | null {
  const source = pieces.source();
  const head = new BlockReader(source);
  const here = firstFrame(new BlockReader(new WindowSource(source, at, Math.min(64, source.size - at)), 64));
  if (here?.at !== 0) return null;
  const [samples, blockSize] = [(head.u8(21) & 15) * 0x1_0000_0000 + head.u32be(22), head.u16be(10)];
  const isLast = here.samples === 1 ? (here.number + 1) * blockSize >= samples : here.number + blockSize >= samples;
  if (samples > 0 && isLast) return null;
  const most = Math.min(1 << 20, head.u24be(15) || USUAL_FRAME);
  const near = pieces.lastAt + at - pieces.from;
  const found = new Set<number>();
  for (const place of framesFrom(room, Math.max(0, near - room.effort.reach), Math.min(room.disk.size, near + room.effort.reach), here)) {
    const { cluster, origin } = room;
    for (let next = Math.floor((place - origin) / cluster) * cluster + origin; next >= 0 && place - next <= most; next -= cluster) {
      found.add(next);
      if (found.size >= MOST_PLACES) break;
    }
  }
  return [...found].sort((a, b) => Math.abs(a - near) - Math.abs(b - near));
}

/** Disk offsets of headers whose number comes next. */
function* framesFrom(
  { disk }: PieceRoom,
  from: number,
  to: number,
  here: { number: number; samples: number },
): Generator<number, void, void> {
  const block = new Uint8Array(STEP + MOST_HEADER);
  for (let at = from; at < to && !disk.isSpent; at += STEP) {
    const bytes = block.subarray(0, Math.min(block.length, to - at));
    disk.read(at, bytes);
    for (let i = bytes.indexOf(0xff); i >= 0 && i < STEP; i = bytes.indexOf(0xff, i + 1)) {
      if (((bytes[i + 1] as number) & 0xfe) !== 0xf8) continue;
      const there = firstFrame(new BlockReader(new MemorySource(bytes.subarray(i, i + MOST_HEADER)), MOST_HEADER));
      if (there?.at === 0 && there.number > here.number && there.number - here.number <= here.samples) yield at + i;
    }
  }
}

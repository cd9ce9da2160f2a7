import { crc32 } from "node:zlib";
import { readBytes } from "../../bytes/byte-source";
import { behind, multiply } from "../../bytes/crc-arithmetic";
import type { PieceRoom, Pieces } from "./pieces";

/** Products of a middle piece's length and its place that are computed, in clusters. */
const MOST_RUNS = 4_000_000;
/** Chance matches of a CRC among so many tries are too likely to be called proof. */
const FEW_TRIES = 2 ** 32 / 100_000;
const MOST_FOUND = 64;

/** Bytes of a file under one CRC-32, of which the beginning stands in the last piece and the end in a known one. */
export interface UnderCrc {
  /** Bytes of the file the CRC is over. */
  readonly from: number;
  readonly end: number;
  readonly crc: number;
  /** Disk offset of the file's byte 0, were all of it laid out from the piece with the end. */
  readonly shift: number;
  /** Bytes of the file within at which pieces may end, a cluster apart, in order. */
  readonly inside: readonly number[];
}

/** A piece in the middle: the one before it ends after `begins` bytes of the file, it begins at `next` on the disk and ends after `ends` bytes. */
export interface MiddleRun {
  readonly begins: number;
  readonly next: number;
  readonly ends: number;
  readonly isCertain: boolean;
}

/**
 * Finds whole pieces within what is under one CRC, whose place nothing else gives: with the CRCs of what comes before and after it given, the CRC
 * it must have follows, and all stretches of that length around are compared with it. The shortest first.
 */
export function* runsWithin(
  room: PieceRoom,
  pieces: Pieces,
  { from, end, crc, shift, inside }: UnderCrc,
): Generator<MiddleRun, void, void> {
  if (inside.length < 2) return;
  const { cluster, origin } = room;
  const count = Math.floor(Math.min(2 * room.effort.reach, (MOST_RUNS / inside.length) * cluster) / cluster);
  const nearest = Math.floor((pieces.lastAt - origin) / cluster) * cluster + origin;
  const firstAt = Math.max(origin % cluster, nearest - Math.floor(count / 2) * cluster);
  const disk = diskPrefixes(room, firstAt, count);
  const here = prefixes(room, pieces.lastAt - pieces.from, from, inside);
  const there = prefixes(room, shift, from, [...inside, end]);
  const all = there[inside.length] as number;
  /** What the CRC up to each break must be so that all of it comes right with the last piece behind it. */
  const wanted = inside.map((length, i) => (multiply(behind(length - end), (crc ^ all) >>> 0) ^ (there[i] as number)) >>> 0);
  const isCertain = inside.length * inside.length * disk.length < FEW_TRIES;
  let found = 0;
  for (let run = 1; run < inside.length && !room.disk.isSpent; run += 1) {
    const moved = behind(run * cluster);
    const needed = new Map<number, number>();
    for (let i = 0; i + run < inside.length; i += 1)
      needed.set(((wanted[i + run] as number) ^ multiply(moved, here[i] as number)) >>> 0, i);
    for (let n = 0; n + run < disk.length; n += 1) {
      const i = needed.get(((disk[n + run] as number) ^ multiply(moved, disk[n] as number)) >>> 0);
      if (i === undefined) continue;
      yield { begins: inside[i] as number, next: firstAt + n * cluster, ends: inside[i + run] as number, isCertain };
      found += 1;
      if (found >= MOST_FOUND) return;
    }
  }
}

/** CRCs of what stands on the disk from the file's byte `from` on, up to each of some later bytes, in their order. */
export function prefixes({ disk }: PieceRoom, shift: number, from: number, ends: readonly number[]): number[] {
  let [at, crc] = [from, 0];
  return ends.map((end) => {
    for (; at < end; at = Math.min(end, at + STEP)) crc = crc32(readBytes(disk, Math.max(0, at + shift), Math.min(STEP, end - at)), crc);
    return crc;
  });
}
const STEP = 1 << 20;

/** CRCs from a place on up to each of the clusters behind it; it ends where the disk does. */
function diskPrefixes({ disk, cluster }: PieceRoom, from: number, count: number): number[] {
  const crcs = [0];
  for (let n = 0; n < count && from + (n + 1) * cluster <= disk.size && !disk.isSpent; n += 1)
    crcs.push(crc32(readBytes(disk, from + n * cluster, cluster), crcs[n]));
  return crcs;
}

import { createCipheriv } from "node:crypto";
import { MemorySource } from "../../core/bytes/byte-source";
import { Domain } from "../../core/sweep/domain";
import type { Find } from "../../core/sweep/find";
import { USUAL } from "../../core/sweep/joining/effort";
import { sweep } from "../../core/sweep/sweep";
import { seeded } from "../../demo/draw";

export interface PiecesOptions {
  readonly seed: number;
  readonly cluster: number;
  readonly pieces: 2 | 3;
  /** The pieces lie in another order than in the file. */
  readonly shuffled?: boolean;
  /** What lies around: bytes that look packed, zeros, letters, or the middle of another file. */
  readonly around: "noise" | "zeros" | "text" | Uint8Array;
}

/** What a sweep of a disk finds where the size of its clusters is known. */
export function sweptFinds(disk: Uint8Array, cluster: number): Find[] {
  const plan = {
    domain: new Domain([{ start: 0, end: disk.length }]),
    options: { everyByte: false, formats: null },
    grid: { cluster, origin: 0 },
    effort: USUAL,
  };
  return [...sweep(new MemorySource(disk), plan)].flatMap((batch) => batch.finds);
}

/** Bytes that look packed, the same for the same seed. */
export const randomBytesOf = (seed: number, length: number): Buffer =>
  createCipheriv("aes-128-ctr", Buffer.alloc(16, seed), Buffer.alloc(16, seed >> 8)).update(Buffer.alloc(length));

/** A disk on which a file lies in pieces of whole clusters; null: it has too few clusters for that. */
export function diskOfPieces(file: Uint8Array, { seed, cluster, pieces, shuffled = false, around }: PiecesOptions) {
  const random = seeded(seed);
  const clusters = Math.ceil(file.length / cluster);
  if (clusters < pieces) return null;
  const cuts = new Set<number>();
  while (cuts.size < pieces - 1) cuts.add(1 + Math.floor(random() * (clusters - 1)));
  const ends = [...cuts].sort((a, b) => a - b);
  const parts = [0, ...ends].map((from, i) => ({ from: from * cluster, to: Math.min(file.length, (ends[i] ?? clusters) * cluster) }));
  const order = shuffled ? [...parts].reverse() : parts;
  let next = cluster * (1 + Math.floor(random() * 5));
  const placed = order.map((part) => {
    const at = next;
    next += (Math.ceil((part.to - part.from) / cluster) + 1 + Math.floor(random() * 40)) * cluster;
    return { ...part, at };
  });
  const disk = background(around, next + 8 * cluster, seed);
  for (const { from, to, at } of placed) disk.set(file.subarray(from, to), at);
  const segments = [...placed].sort((a, b) => a.from - b.from).map(({ from, to, at }) => ({ at, length: to - from }));
  return { disk, segments };
}

/** Where the second piece of a file lies that is farther away than a sweep looks for it. Bytes. */
export const FAR_AWAY = 60 << 20;

/** A disk on which a file begins with the second cluster, and goes on far away after `cut` bytes. */
export function diskWithFarPiece(file: Uint8Array, cut: number, cluster: number): Buffer {
  const disk = Buffer.alloc(FAR_AWAY + file.length + 20 * cluster);
  disk.set(randomBytesOf(3, 1 << 20));
  disk.set(file.subarray(0, cut), cluster);
  disk.set(file.subarray(cut), FAR_AWAY);
  return disk;
}

function background(around: PiecesOptions["around"], length: number, seed: number): Buffer {
  if (around === "noise") return randomBytesOf(seed, length);
  if (around === "zeros") return Buffer.alloc(length);
  if (around === "text") return Buffer.alloc(length, "The members met in the hall, and the minutes of the last meeting were read.\n");
  return Buffer.alloc(length, around);
}

import type { ByteSource } from "../bytes/byte-source";
import { type Range, RangeSet, without } from "../bytes/range-set";

/** Bytes of the map looked at in one go when walking it. */
const STEP = 1 << 16;
const PER_BLOCK = STEP * 8;
/** What a block of the map is. */
const [NOT_LOOKED_AT, ALL_FREE, ALL_USED, MIXED] = [0, 1, 2, 3];
const FREE_BLOCK = Buffer.alloc(STEP);
const USED_BLOCK = Buffer.alloc(STEP, 0xff);
/** Blocks of which that is kept: those behind them are gone through each time. Enough for 2^40 clusters. */
const MOST_BLOCKS = 1 << 21;

/** Each byte with its bits in the other order. */
const TURNED = Uint8Array.from({ length: 256 }, (_, byte) => {
  let turned = 0;
  for (let bit = 0; bit < 8; bit += 1) turned |= ((byte >>> bit) & 1) << (7 - bit);
  return turned;
});

/**
 * A bitmap of clusters, one bit each, set when in use: lowest bit first (NTFS `$Bitmap`, exFAT allocation bitmap, APFS), or highest
 * first (HFS Plus, Technical Note 1150, "Allocation File").
 * It is read through its source as needed, so a volume of any size takes no more memory than the source's cache.
 */
export class AllocationMap {
  readonly #block = new Uint8Array(STEP);
  #blockAt = -1;
  /** Of each block of the map. */
  readonly #kinds: Uint8Array;

  constructor(
    private readonly bits: ByteSource,
    /** Clusters the volume has. */
    readonly clusters: number,
    private readonly highestFirst = false,
  ) {
    this.#kinds = new Uint8Array(Math.min(MOST_BLOCKS, Math.ceil(Math.max(0, clusters) / PER_BLOCK)));
  }

  /** Clusters outside the volume count as used: no free byte may be promised there. */
  isUsed(cluster: number): boolean {
    if (cluster < 0 || cluster >= this.clusters) return true;
    return ((this.#byte(Math.floor(cluster / 8)) >>> (cluster % 8)) & 1) === 1;
  }

  /**
   * The ranges of used clusters inside [start, start + count). Blocks of the map that are all free or all used, and what lies outside the volume, are
   * passed at once: files that claim all of a volume that was never stored cost next to nothing, however many they are.
   */
  usedWithin(start: number, count: number): Range[] {
    const found: Range[] = [];
    const end = start + count;
    let from: number | null = null;
    /** Whether a stretch that begins here is in use. */
    const turn = (cluster: number, used: boolean) => {
      if (used) from ??= cluster;
      else if (from !== null) {
        found.push({ start: from, end: cluster });
        from = null;
      }
    };
    for (let cluster = start; cluster < end; ) {
      if (cluster < 0 || cluster >= this.clusters) {
        turn(cluster, true);
        cluster = cluster < 0 ? Math.min(end, 0) : end;
        continue;
      }
      const block = Math.floor(cluster / PER_BLOCK);
      const stop = Math.min(end, this.clusters, (block + 1) * PER_BLOCK);
      const kind = this.#kindOf(block);
      if (kind === MIXED) this.#walk(cluster, stop, turn);
      else turn(cluster, kind === ALL_USED);
      cluster = stop;
    }
    if (from !== null) found.push({ start: from, end });
    return found;
  }

  /** Goes through clusters of one block; whole bytes of free or used ones are stepped over at once. */
  #walk(first: number, stop: number, turn: (cluster: number, used: boolean) => void): void {
    for (let cluster = first; cluster < stop; ) {
      const byte = this.#byte(Math.floor(cluster / 8));
      if ((byte === 0 || byte === 0xff) && cluster % 8 === 0 && cluster + 8 <= stop) {
        turn(cluster, byte !== 0);
        cluster += 8;
        continue;
      }
      turn(cluster, ((byte >>> (cluster % 8)) & 1) === 1);
      cluster += 1;
    }
  }

  /** The ranges of used clusters that belong to nothing, as `owned` says. */
  *usedWithoutOwner(owned: (cluster: number) => boolean): Generator<Range, void, void> {
    for (const range of this.usedWithin(0, this.clusters)) {
      let from = -1;
      for (let cluster = range.start; cluster <= range.end; cluster += 1) {
        const lost = cluster < range.end && !owned(cluster);
        if (lost && from < 0) from = cluster;
        if (lost || from < 0) continue;
        yield { start: from, end: cluster };
        from = -1;
      }
    }
  }

  #byte(at: number): number {
    const block = Math.floor(at / STEP);
    if (block !== this.#blockAt) this.#load(block);
    return this.#block[at - block * STEP] as number;
  }

  #load(block: number): void {
    this.bits.read(block * STEP, this.#block);
    if (this.highestFirst)
      for (let index = 0; index < STEP; index += 1) this.#block[index] = TURNED[this.#block[index] as number] as number;
    this.#blockAt = block;
  }

  /** What a block of the map is, looked at once. The last one is mixed, as it may end within a byte. */
  #kindOf(block: number): number {
    const kept = this.#kinds[block] ?? MIXED;
    if (kept !== NOT_LOOKED_AT) return kept;
    if (block !== this.#blockAt) this.#load(block);
    const ends = (block + 1) * PER_BLOCK > this.clusters;
    const kind = ends ? MIXED : FREE_BLOCK.equals(this.#block) ? ALL_FREE : USED_BLOCK.equals(this.#block) ? ALL_USED : MIXED;
    this.#kinds[block] = kind;
    return kind;
  }
}

/** Which units of a volume are in use. */
export type UsedMap = Pick<AllocationMap, "clusters" | "isUsed" | "usedWithin">;

/** A map of which only the few free stretches are known. Ranges of clusters. */
export class GapMap implements UsedMap {
  readonly #free: RangeSet;

  constructor(
    readonly clusters: number,
    free: Iterable<Range>,
  ) {
    this.#free = RangeSet.from(free);
  }

  isUsed(cluster: number): boolean {
    return cluster < 0 || cluster >= this.clusters || this.#free.overlap(cluster, cluster + 1) === 0;
  }

  usedWithin(start: number, count: number): Range[] {
    return [...without({ start, end: start + count }, this.#free.within(start, start + count))];
  }
}

import type { ByteSource } from "../bytes/byte-source";
import { type Range, RangeSet, without } from "../bytes/range-set";

/** Bytes of the map looked at in one go when walking it. */
const STEP = 1 << 16;

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

  constructor(
    private readonly bits: ByteSource,
    /** Clusters the volume has. */
    readonly clusters: number,
    private readonly highestFirst = false,
  ) {}

  /** Clusters outside the volume count as used: no free byte may be promised there. */
  isUsed(cluster: number): boolean {
    if (cluster < 0 || cluster >= this.clusters) return true;
    return ((this.#byte(cluster >>> 3) >>> (cluster & 7)) & 1) === 1;
  }

  /** The ranges of used clusters inside [start, start + count). */
  usedWithin(start: number, count: number): Range[] {
    const found: Range[] = [];
    let from = -1;
    const end = start + count;
    for (let cluster = start; cluster < end; cluster += 1) {
      // Whole bytes of free or used clusters are stepped over at once.
      if ((cluster & 7) === 0 && cluster + 8 <= end && cluster + 8 <= this.clusters && cluster >= 0) {
        const byte = this.#byte(cluster >>> 3);
        if (byte === 0 && from < 0) {
          cluster += 7;
          continue;
        }
        if (byte === 0xff && from >= 0) {
          cluster += 7;
          continue;
        }
      }
      if (this.isUsed(cluster)) {
        if (from < 0) from = cluster;
      } else if (from >= 0) {
        found.push({ start: from, end: cluster });
        from = -1;
      }
    }
    if (from >= 0) found.push({ start: from, end });
    return found;
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
    if (block !== this.#blockAt) {
      this.bits.read(block * STEP, this.#block);
      if (this.highestFirst)
        for (let index = 0; index < STEP; index += 1) this.#block[index] = TURNED[this.#block[index] as number] as number;
      this.#blockAt = block;
    }
    return this.#block[at - block * STEP] as number;
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

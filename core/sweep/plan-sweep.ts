import { type Range, without } from "../bytes/range-set";
import type { FileSystem } from "../filesystems/file-record";
import { Domain } from "./domain";
import { LONG, USUAL } from "./joining/effort";
import { SECTOR } from "./mark-search";
import type { SweepPlan } from "./sweep";
import type { SweepOptions } from "./unit";

export interface SweepWish extends SweepOptions {
  /** The stretch that is swept; disk byte offsets. */
  readonly range: Range;
  /** Only where the file system has nothing in use. */
  readonly unusedOnly: boolean;
  /** Stretches that were swept before in the same way. */
  readonly skip: readonly Range[];
  /** Pieces are looked for farther away, and with more tries. */
  readonly longer?: boolean;
}

/** Works out what is swept. @param volume the file system in the stretch; null: none that can be read */
export function planSweep(wish: SweepWish, volume: FileSystem | null): SweepPlan {
  const range = { start: Math.ceil(wish.range.start / SECTOR) * SECTOR, end: wish.range.end };
  const allocation = wish.unusedOnly ? volume?.allocation : null;
  let ranges = without(range, wish.skip);
  if (allocation && volume) {
    const { clusterSize, allocationStart } = volume;
    const used = allocation.usedWithin(0, allocation.clusters).map(({ start, end }) => ({
      start: allocationStart + start * clusterSize,
      end: allocationStart + end * clusterSize,
    }));
    ranges = ranges.flatMap((each) => without(each, used));
  }
  return {
    domain: new Domain(ranges),
    options: { everyByte: wish.everyByte, formats: wish.formats },
    grid: volume && { cluster: volume.clusterSize, origin: volume.allocationStart },
    effort: wish.longer ? LONG : USUAL,
  };
}

/** Whether the cluster that holds a disk offset is in use. */
export function isUsed(volume: FileSystem | null, at: number): boolean {
  if (!volume?.allocation) return false;
  const cluster = Math.floor((at - volume.allocationStart) / volume.clusterSize);
  return cluster >= 0 && cluster < volume.allocation.clusters && volume.allocation.isUsed(cluster);
}

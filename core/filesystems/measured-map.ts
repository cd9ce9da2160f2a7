import type { Range } from "../bytes/range-set";
import type { UsedMap } from "./allocation-map";

/** Clusters that are numbered from 0 on. Bytes, counted from wherever both ways of measuring count from. */
interface Measures {
  readonly clusterSize: number;
  /** Where the first one begins. */
  readonly at: number;
}

/**
 * The map of used clusters of a volume, seen with the measures of a file system that was there before. What no cluster of the volume covers is
 * its own: its tables, and its end.
 */
export class MeasuredMap implements UsedMap {
  constructor(
    readonly clusters: number,
    private readonly own: Measures,
    private readonly map: UsedMap,
    private readonly mapped: Measures,
  ) {}

  isUsed(cluster: number): boolean {
    return cluster < 0 || cluster >= this.clusters || this.#usedWithin(cluster, 1).length > 0;
  }

  usedWithin(start: number, count: number): Range[] {
    const { own, mapped } = this;
    const found: { start: number; end: number }[] = [];
    for (const range of this.#usedWithin(start, count)) {
      const toOwn = (cluster: number) => (mapped.at + cluster * mapped.clusterSize - own.at) / own.clusterSize;
      const from = Math.max(start, Math.floor(toOwn(range.start)));
      const to = Math.min(start + count, Math.ceil(toOwn(range.end)));
      const last = found.at(-1);
      if (last && from <= last.end) last.end = Math.max(last.end, to);
      else if (from < to) found.push({ start: from, end: to });
    }
    return found;
  }

  /** In clusters of the volume. */
  #usedWithin(start: number, count: number): Range[] {
    const { own, mapped } = this;
    const toMapped = (cluster: number) => (own.at + cluster * own.clusterSize - mapped.at) / mapped.clusterSize;
    const first = Math.floor(toMapped(start));
    return this.map.usedWithin(first, Math.ceil(toMapped(start + count)) - first);
  }
}

import type { Range } from "../bytes/range-set";
import type { AllocationMap } from "./allocation-map";
import { MOST_OWNED_CLUSTERS, OwnedClusters } from "./owned-clusters";

/** Clusters that are looked at one by one, in volume sizes: damaged records claim any number, each of them. */
const MOST_LOOKED_AT = 4;

/** Holds the clusters that files claim against one another, and against the volume's map of used ones. */
export class ClaimedClusters {
  readonly #owned: OwnedClusters | null;
  #left: number;

  constructor(
    private readonly clusters: number,
    private readonly map: AllocationMap | null,
  ) {
    this.#owned = clusters <= MOST_OWNED_CLUSTERS ? new OwnedClusters(clusters) : null;
    this.#left = MOST_LOOKED_AT * clusters;
  }

  /**
   * Enters a claim; what lies outside the volume is left out.
   * @returns how many of the clusters were claimed before, and how many the map calls free: none where there is too much to be looked at
   */
  claim(first: number, length: number): { readonly twice: number; readonly free: number } {
    const { start, count, twice } = this.enter(first, length);
    if (count === 0) return { twice: 0, free: 0 };
    const used = this.map?.usedWithin(start, count).reduce((sum, range) => sum + range.end - range.start, 0) ?? count;
    return { twice, free: count - used };
  }

  /** The same without a look at the map. @returns the clusters that were looked at, and how many of them were claimed before */
  enter(first: number, length: number): { readonly start: number; readonly count: number; readonly twice: number } {
    const start = Math.max(0, first);
    const count = Math.max(0, Math.min(first + length, this.clusters) - start);
    this.#left -= count;
    if (this.#left < 0) return { start, count: 0, twice: 0 };
    return { start, count, twice: this.#owned?.add(start, count) ?? 0 };
  }

  /** Clusters that the map calls used and nothing claims. Where not all claims were looked at, none are known. */
  *unclaimed(): Generator<Range, void, void> {
    const owned = this.#owned;
    if (owned && this.map && this.#left >= 0) yield* this.map.usedWithoutOwner((cluster) => owned.has(cluster));
  }
}

import type { UsedMap } from "./allocation-map";

const MOST_STRETCHES = 2048;

/**
 * How full a volume is along its length: the share in use of each of up to 2048 equal stretches, 0 … 255, and the
 * clusters in use in all.
 */
export function usageProfile(map: UsedMap): { shares: Uint8Array; used: number } {
  const count = Math.min(MOST_STRETCHES, map.clusters);
  const shares = new Uint8Array(count);
  let used = 0;
  for (let i = 0; i < count; i += 1) {
    const start = Math.floor((i * map.clusters) / count);
    const end = Math.floor(((i + 1) * map.clusters) / count);
    const inUse = map.usedWithin(start, end - start).reduce((sum, range) => sum + range.end - range.start, 0);
    used += inUse;
    // A stretch that is used at all never shows as empty.
    shares[i] = inUse === 0 ? 0 : Math.max(1, Math.round((255 * inUse) / (end - start)));
  }
  return { shares, used };
}

/** Where clusters begin: at every multiple of `cluster` bytes, counted from `origin` (a disk offset). */
export interface Grid {
  readonly cluster: number;
  readonly origin: number;
}

const SMALLEST = 512;
const LARGEST = 1 << 21;
/** Beginnings of files that lie where clusters begin; the others are embedded, or were never on this volume. */
const LEAST_SHARE = 0.8;
/** So seldom would files on smaller clusters seem to lie on larger ones, at each doubling. */
const MOST_CHANCE = 0.02;

/**
 * Reads the size of clusters and where they begin off the beginnings of files: the largest power of two of which they have the same
 * remainder. @param starts disk byte offsets of files that are whole; those apart from sectors are left out
 * @returns null when there are too few of them, or they share nothing
 */
export function gridOf(starts: readonly number[]): Grid | null {
  const at = [...new Set(starts)].filter((start) => start % SMALLEST === 0);
  let grid: Grid | null = null;
  let [count, origin] = [at.length, 0];
  for (let cluster = SMALLEST * 2; cluster <= LARGEST; cluster *= 2) {
    const [lower, upper] = [origin, origin + cluster / 2];
    const lows = at.filter((start) => start % cluster === lower).length;
    const highs = at.filter((start) => start % cluster === upper).length;
    const most = Math.max(lows, highs);
    if (most < LEAST_SHARE * at.length || chanceOf(most, count) > MOST_CHANCE) break;
    origin = lows >= highs ? lower : upper;
    count = most;
    grid = { cluster, origin };
  }
  // Nothing larger than sectors: enough beginnings say so, too few say nothing.
  return grid ?? (at.length >= ENOUGH ? { cluster: SMALLEST, origin: 0 } : null);
}

/** Beginnings of files after which a grid is settled. */
export const ENOUGH = 24;

/** How likely `most` or more of `count` fall on one of two sides by chance. */
function chanceOf(most: number, count: number): number {
  let [chance, each] = [0, 2 ** -count];
  for (let on = count; on >= most; on -= 1) {
    chance += each;
    each *= on / (count - on + 1);
  }
  return Math.min(1, 2 * chance);
}

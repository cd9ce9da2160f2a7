/** A moment at which something changed in snapshots or backup sets: UTC milliseconds, and how many files did. */
export interface Moment {
  readonly at: number;
  readonly count: number;
}

export type StepTo = "before" | "after" | "before-loss";

/**
 * The moment a step leads to.
 * @param at where the mark stands; null: the list is as it is now
 * @returns null: now; undefined: there is no further one that way
 */
export function momentStep(moments: readonly Moment[], at: number | null, to: StepTo, loss: number | null): number | null | undefined {
  const last = (before: number) => moments.findLast((moment) => moment.at < before)?.at;
  if (to === "before-loss") return loss === null ? undefined : last(loss);
  if (to === "before") return last(at ?? Number.POSITIVE_INFINITY);
  if (at === null) return undefined;
  return moments.find((moment) => moment.at > at)?.at ?? null;
}

/** A list as of a moment, as a change of the address: everything that was there then. */
export const asOfAddress = (moment: number) => ({ asOf: new Date(moment).toISOString(), show: "all", rows: null });

/** How many files changed in each of the columns of an axis, in pixels from its left edge. */
export function density(moments: readonly Moment[], placeOf: (at: number) => number, width: number, column: number): Map<number, number> {
  const found = new Map<number, number>();
  for (const { at, count } of moments) {
    const x = Math.floor(placeOf(at) / column) * column;
    if (x >= 0 && x < width) found.set(x, (found.get(x) ?? 0) + count);
  }
  return found;
}

/** The moment nearest to a place on an axis, within some pixels; null: none is. */
export function nearestMoment(moments: readonly Moment[], placeOf: (at: number) => number, x: number, within: number): number | null {
  let best: { at: number; distance: number } | null = null;
  for (const { at } of moments) {
    const distance = Math.abs(placeOf(at) - x);
    if (distance <= within && (!best || distance < best.distance)) best = { at, distance };
  }
  return best?.at ?? null;
}

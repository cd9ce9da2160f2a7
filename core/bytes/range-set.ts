/** A half-open range of byte offsets (or of clusters, where said so): `start` ≤ x < `end`. */
export interface Range {
  readonly start: number;
  readonly end: number;
}

/** Sorted, disjoint, half-open ranges. Touching ranges are joined. */
export class RangeSet {
  readonly #ranges: Range[] = [];

  static from(ranges: Iterable<Range>): RangeSet {
    const set = new RangeSet();
    for (const range of ranges) set.add(range.start, range.end);
    return set;
  }

  get ranges(): readonly Range[] {
    return this.#ranges;
  }

  /** Sum of the lengths. */
  get total(): number {
    return this.#ranges.reduce((sum, range) => sum + range.end - range.start, 0);
  }

  add(start: number, end: number): void {
    if (!(end > start)) return;
    const first = this.#firstEndingAtOrAfter(start);
    let last = first;
    let joinedStart = start;
    let joinedEnd = end;
    for (let range = this.#ranges[last]; range && range.start <= end; range = this.#ranges[last]) {
      joinedStart = Math.min(joinedStart, range.start);
      joinedEnd = Math.max(joinedEnd, range.end);
      last += 1;
    }
    this.#ranges.splice(first, last - first, { start: joinedStart, end: joinedEnd });
  }

  /** The parts of this set inside [start, end). */
  within(start: number, end: number): Range[] {
    const found: Range[] = [];
    for (let i = this.#firstEndingAtOrAfter(start + 1); i < this.#ranges.length; i += 1) {
      const range = this.#ranges[i];
      if (!range || range.start >= end) break;
      found.push({ start: Math.max(start, range.start), end: Math.min(end, range.end) });
    }
    return found;
  }

  /** How many units of [start, end) are in the set. */
  overlap(start: number, end: number): number {
    return this.within(start, end).reduce((sum, range) => sum + range.end - range.start, 0);
  }

  /**
   * The gaps of the set nearest to a place, in their order.
   * @param within where gaps are looked for @param least units they have at least @param most of them on either side @param looked gaps that are looked at on either side
   */
  gapsNear(place: number, within: Range, least: number, most: number, looked = 20_000): Range[] {
    const ranges = this.#ranges;
    const first = this.#firstEndingAtOrAfter(place);
    const gap = (index: number): Range => ({
      start: Math.max(within.start, ranges[index - 1]?.end ?? within.start),
      end: Math.min(within.end, ranges[index]?.start ?? within.end),
    });
    const collect = (from: number, step: 1 | -1): Range[] => {
      const found: Range[] = [];
      for (let index = from, steps = 0; index >= 0 && index <= ranges.length && steps < looked && found.length < most; index += step) {
        const each = gap(index);
        if (each.end - each.start >= Math.max(1, least)) found.push(each);
        steps += 1;
      }
      return found;
    };
    return [...collect(first - 1, -1).reverse(), ...collect(first, 1)];
  }

  #firstEndingAtOrAfter(value: number): number {
    let low = 0;
    let high = this.#ranges.length;
    while (low < high) {
      const middle = (low + high) >>> 1;
      if ((this.#ranges[middle] as Range).end < value) low = middle + 1;
      else high = middle;
    }
    return low;
  }
}

/** The parts of `range` outside `holes`, which are sorted and apart. */
export function without(range: Range, holes: Iterable<Range>): Range[] {
  const kept: Range[] = [];
  let at = range.start;
  for (const hole of holes) {
    if (hole.end <= at) continue;
    if (hole.start >= range.end) break;
    if (hole.start > at) kept.push({ start: at, end: hole.start });
    at = hole.end;
  }
  if (at < range.end) kept.push({ start: at, end: range.end });
  return kept;
}

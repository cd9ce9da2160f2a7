import type { Range } from "../bytes/range-set";

/** A screen has about as many columns. */
const MOST_DRAWN = 512;

/** The stretches of a disk that are swept. What is found goes no farther than the stretch it begins in. */
export class Domain {
  /** Bytes of the domain before each of its stretches. */
  readonly #before: Float64Array;
  readonly total: number;

  /** @param ranges sorted, apart from each other; disk byte offsets */
  constructor(readonly ranges: readonly Range[]) {
    this.#before = new Float64Array(ranges.length);
    let sum = 0;
    ranges.forEach(({ start, end }, i) => {
      this.#before[i] = sum;
      sum += end - start;
    });
    this.total = sum;
  }

  /** Bytes of the domain before `at`. */
  before(at: number): number {
    const index = this.#indexOf(at);
    const range = this.ranges[index];
    return range ? (this.#before[index] as number) + Math.max(0, at - range.start) : this.total;
  }

  #indexOf(at: number): number {
    let [low, high] = [0, this.ranges.length];
    while (low < high) {
      const middle = (low + high) >>> 1;
      if ((this.ranges[middle] as Range).end <= at) low = middle + 1;
      else high = middle;
    }
    return low;
  }

  /** Where the stretch that holds `at` ends; `at` itself when none does. */
  limitOf(at: number): number {
    const range = this.ranges[this.#indexOf(at)];
    return range && range.start <= at ? range.end : at;
  }

  /** The stretches as they are drawn to scale: at most some hundreds, gaps too small to be seen closed. */
  drawn(): Range[] {
    const [first, last] = [this.ranges[0], this.ranges.at(-1)];
    if (!first || !last) return [];
    const smallest = (last.end - first.start) / MOST_DRAWN;
    const drawn: Range[] = [];
    for (const { start, end } of this.ranges) {
      const before = drawn.at(-1);
      if (before && start - before.end < smallest) drawn[drawn.length - 1] = { start: before.start, end };
      else drawn.push({ start, end });
    }
    return drawn;
  }

  /** The pieces of the domain from `from` on, none longer than `step`, none across a multiple of it. */
  *units(from: number, step: number): Generator<Range, void, void> {
    for (let i = this.#indexOf(from); i < this.ranges.length; i += 1) {
      const { start, end } = this.ranges[i] as Range;
      for (let at = Math.max(start, from); at < end; ) {
        const to = Math.min(end, (Math.floor(at / step) + 1) * step);
        yield { start: at, end: to };
        at = to;
      }
    }
  }
}

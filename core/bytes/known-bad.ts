import type { ByteSource } from "./byte-source";
import { type Range, RangeSet, without } from "./range-set";

/** A source of which some stretches are known to be unreadable: they come as zeros and are not asked for again. */
export class KnownBadSource implements ByteSource {
  readonly size: number;
  readonly holes?: ByteSource["holes"];
  readonly seams?: readonly number[];
  readonly doubts?: readonly Range[];
  readonly #bad: RangeSet;

  /** @param bad byte ranges of the source */
  constructor(
    private readonly parent: ByteSource,
    bad: readonly Range[],
  ) {
    this.size = parent.size;
    if (parent.holes) this.holes = parent.holes.bind(parent);
    if (parent.seams) this.seams = parent.seams;
    if (parent.doubts) this.doubts = parent.doubts;
    this.#bad = RangeSet.from(bad);
  }

  get identity(): string | undefined {
    const { identity } = this.parent;
    const { ranges } = this.#bad;
    return identity === undefined || ranges.length === 0 ? identity : `${identity} but ${JSON.stringify(ranges)}`;
  }

  /** Learns of a further stretch, for instance one that another reader of the same source met. */
  add(range: Range): void {
    this.#bad.add(range.start, range.end);
  }

  read(at: number, into: Uint8Array): void {
    const bad = this.#bad.within(at, at + into.length);
    if (bad.length === 0) {
      this.parent.read(at, into);
      return;
    }
    into.fill(0);
    for (const { start, end } of without({ start: at, end: at + into.length }, bad))
      this.parent.read(start, into.subarray(start - at, end - at));
  }

  unreadable(at: number, length: number): Range[] {
    const found = RangeSet.from(this.parent.unreadable(at, length));
    for (const { start, end } of this.#bad.within(at, at + length)) found.add(start, end);
    return [...found.ranges];
  }
}

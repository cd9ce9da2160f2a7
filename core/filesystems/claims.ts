import { type Range, RangeSet } from "../bytes/range-set";

/** Clusters claimed by deleted records: where two claim the same, only the one that lived later can still be right. */
export class Claims {
  readonly #starts: number[] = [];
  readonly #ends: number[] = [];
  readonly #owners: number[] = [];
  /** When the owner's record was last changed, UTC ms: everything done to the earlier file is older than that. */
  readonly #changed = new Map<number, number>();

  /**
   * Enters what a file claims.
   * @param owner names the file in the result
   * @param runs the units it claims
   * @param changed when its record was last changed, UTC milliseconds; later than anything for a file that was never deleted
   */
  add(owner: number, runs: Iterable<Range>, changed: number | null): void {
    if (changed !== null) this.#changed.set(owner, changed);
    for (const { start, end } of runs) {
      this.#starts.push(start);
      this.#ends.push(end);
      this.#owners.push(owner);
    }
  }

  takenLater(): Map<number, RangeSet> {
    const taken = new Map<number, RangeSet>();
    const order = Uint32Array.from(this.#starts.keys()).sort((a, b) => (this.#starts[a] as number) - (this.#starts[b] as number));
    let open: number[] = [];
    for (const claim of order) {
      const start = this.#starts[claim] as number;
      open = open.filter((other) => (this.#ends[other] as number) > start);
      for (const other of open) {
        const end = Math.min(this.#ends[claim] as number, this.#ends[other] as number);
        this.#settle(claim, other, start, end, taken);
      }
      // Damaged run lists may claim everything at once; a thousand overlapping claims add nothing.
      if (open.length < 1024) open.push(claim);
    }
    return taken;
  }

  #settle(a: number, b: number, start: number, end: number, taken: Map<number, RangeSet>): void {
    const first = this.#owners[a] as number;
    const second = this.#owners[b] as number;
    if (first === second) return;
    const difference = (this.#changed.get(first) ?? 0) - (this.#changed.get(second) ?? 0);
    // With equal times nobody can say which was later: neither may be promised.
    const losers = difference === 0 ? [first, second] : [difference > 0 ? second : first];
    for (const loser of losers) {
      const set = taken.get(loser) ?? new RangeSet();
      set.add(start, end);
      taken.set(loser, set);
    }
  }
}

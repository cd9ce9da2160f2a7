import { Growing } from "../bytes/growing";

const SMALLEST = 1 << 10;

/** Rows by a number: their own, or that of the row they lead to. Several rows may have the same one; they come in the order in which they were added. */
export class RowsByNumber {
  #keys = new Float64Array(SMALLEST);
  /** By slot the first and the last entry of that number, counted from 1; 0: the slot is free. */
  #first = new Uint32Array(SMALLEST);
  #last = new Uint32Array(SMALLEST);
  #size = 0;
  /** By entry its row, and the next entry of the same number; 0: it is the last. */
  readonly #rows = new Growing((length) => new Uint32Array(length));
  readonly #next = new Growing((length) => new Uint32Array(length));
  /** Numbers beyond 2^53: hardly ever there is one. */
  readonly #large = new Map<bigint, number[]>();

  /** How many different numbers there are. */
  get size(): number {
    return this.#size + this.#large.size;
  }

  has(number: unknown): boolean {
    if (typeof number === "bigint") return this.#large.has(number);
    return typeof number === "number" && this.#first[slotOf(this.#keys, this.#first, number)] !== 0;
  }

  add(number: number | bigint, row: number): void {
    if (typeof number === "bigint") {
      const rows = this.#large.get(number) ?? [];
      rows.push(row);
      this.#large.set(number, rows);
      return;
    }
    const slot = slotOf(this.#keys, this.#first, number);
    this.#rows.push(row);
    this.#next.push(0);
    const entry = this.#rows.length;
    if (this.#first[slot] !== 0) this.#next.set((this.#last[slot] as number) - 1, entry);
    else {
      this.#keys[slot] = number;
      this.#first[slot] = entry;
      this.#size += 1;
    }
    this.#last[slot] = entry;
    if (this.#size * 2 > this.#keys.length) this.#grow();
  }

  /** The rows of a number; none for what is no number. */
  *rowsOf(number: unknown): Generator<number> {
    if (typeof number === "bigint") yield* this.#large.get(number) ?? [];
    if (typeof number !== "number") return;
    let entry = this.#first[slotOf(this.#keys, this.#first, number)] as number;
    for (; entry !== 0; entry = this.#next.get(entry - 1)) yield this.#rows.get(entry - 1);
  }

  #grow(): void {
    const length = this.#keys.length * 2;
    const [keys, first, last] = [new Float64Array(length), new Uint32Array(length), new Uint32Array(length)];
    for (const [slot, entry] of this.#first.entries()) {
      if (entry === 0) continue;
      const to = slotOf(keys, first, this.#keys[slot] as number);
      keys[to] = this.#keys[slot] as number;
      first[to] = entry;
      last[to] = this.#last[slot] as number;
    }
    [this.#keys, this.#first, this.#last] = [keys, first, last];
  }
}

/** The slot a number is in, or that is free for it. */
function slotOf(keys: Float64Array, first: Uint32Array, number: number): number {
  const mask = keys.length - 1;
  const low = number | 0;
  const high = (number / 0x1_0000_0000) | 0;
  let slot = (Math.imul(low ^ Math.imul(high, 0x9e37_79b9), 0x85eb_ca6b) >>> 4) & mask;
  while (first[slot] !== 0 && keys[slot] !== number) slot = (slot + 1) & mask;
  return slot;
}

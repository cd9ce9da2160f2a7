/** What is noted of a number in use: when its file or folder was made (Mac time), and the first block of its data fork (0: it has none). */
export interface NumberFacts {
  readonly made: number;
  readonly firstBlock: number;
}

const FIELDS = 3;
/** Stands where two records claim one number: nothing is known of it then but that it is in use. */
const UNSURE = 0xffff_ffff;

/** The catalog node numbers in use: a table of open addresses, so that a million of them take 24 MiB at most and numbers far apart no more. */
export class CatalogNumbers {
  #table: Uint32Array;
  #size = 0;

  /** @param expected about how many numbers there will be */
  constructor(expected = 0) {
    this.#table = new Uint32Array(FIELDS * 2 ** Math.max(10, Math.ceil(Math.log2(Math.max(1, expected) * 2 + 1))));
  }

  add(number: number, { made, firstBlock }: NumberFacts): void {
    if (number === 0) return;
    if (this.#size * 2 >= this.#table.length / FIELDS) this.#grow();
    const at = this.#slot(number);
    const taken = this.#table[at] === number;
    if (!taken) this.#size += 1;
    this.#table.set([number, made, taken ? UNSURE : firstBlock], at);
  }

  has(number: number): boolean {
    return number !== 0 && this.#table[this.#slot(number)] === number;
  }

  /** null: it is not in use, or two records claim it. */
  factsOf(number: number): NumberFacts | null {
    if (!this.has(number)) return null;
    const at = this.#slot(number);
    const firstBlock = this.#table[at + 2] as number;
    return firstBlock === UNSURE ? null : { made: this.#table[at + 1] as number, firstBlock };
  }

  /** Where a number stands, or would. */
  #slot(number: number): number {
    const slots = this.#table.length / FIELDS;
    let slot = Math.imul(number, 0x9e37_79b1) >>> (Math.clz32(slots) + 1);
    for (;;) {
      const held = this.#table[slot * FIELDS];
      if (held === 0 || held === number) return slot * FIELDS;
      slot = (slot + 1) & (slots - 1);
    }
  }

  #grow(): void {
    const before = this.#table;
    this.#table = new Uint32Array(before.length * 2);
    for (let at = 0; at < before.length; at += FIELDS) {
      const number = before[at] as number;
      if (number !== 0) this.#table.set(before.subarray(at, at + FIELDS), this.#slot(number));
    }
  }
}

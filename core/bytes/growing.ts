type Numbers = Float64Array | Uint32Array | Uint16Array | Uint8Array;

const SMALLEST = 1 << 10;

/** A list of numbers of one width that grows: a few bytes each, where a list of the language's own takes many. */
export class Growing<A extends Numbers> {
  #all: A;
  #length = 0;

  constructor(private readonly make: (length: number) => A) {
    this.#all = make(SMALLEST);
  }

  get length(): number {
    return this.#length;
  }

  push(value: number): void {
    if (this.#length === this.#all.length) {
      const grown = this.make(this.#length * 2);
      grown.set(this.#all);
      this.#all = grown;
    }
    this.#all[this.#length] = value;
    this.#length += 1;
  }

  /** All numbers, until one is added. */
  get view(): A {
    return this.#all.subarray(0, this.#length) as A;
  }

  /** The number at a place; 0 where there is none. */
  get(index: number): number {
    return index < this.#length ? (this.#all[index] as number) : 0;
  }

  set(index: number, value: number): void {
    if (index < this.#length) this.#all[index] = value;
  }
}

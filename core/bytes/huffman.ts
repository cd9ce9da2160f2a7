import { Malformed } from "./malformed";
/** A canonical prefix code: shorter codes first, and among those of one length by symbol. */
export interface PrefixCode {
  /** For each value of the next `bits` bits: symbol × 32 + length of its code; 0: no code begins so. */
  readonly table: Uint32Array;
  readonly bits: number;
}

/**
 * Builds the decoding table from the lengths of the codes (0: the symbol does not occur).
 * @throws Malformed when the lengths do not make a prefix code
 */
export function prefixCode(lengths: Uint8Array, bits: number): PrefixCode {
  const table = new Uint32Array(2 ** bits);
  let next = 0;
  for (let length = 1; length <= bits; length += 1) {
    for (let symbol = 0; symbol < lengths.length; symbol += 1) {
      if (lengths[symbol] !== length) continue;
      const span = 2 ** (bits - length);
      if (next + span > table.length) throw new Malformed("the lengths of the codes do not fit together");
      table.fill(symbol * 32 + length, next, next + span);
      next += span;
    }
  }
  return { table, bits };
}

/** Bits taken from little-endian words of 16 bits, the highest first, as both codings of the system have them. */
export class WordBits {
  #buffer = 0;
  #count = 0;

  constructor(
    readonly bytes: Uint8Array,
    public at: number,
  ) {}

  /** The next `count` bits (at most 16) without taking them; past the end come zeros. */
  peek(count: number): number {
    while (this.#count < count) {
      const word = (this.bytes[this.at] ?? 0) | ((this.bytes[this.at + 1] ?? 0) << 8);
      this.at += 2;
      this.#buffer = ((this.#buffer << 16) | word) >>> 0;
      this.#count += 16;
    }
    return count === 0 ? 0 : (this.#buffer >>> (this.#count - count)) & (2 ** count - 1);
  }

  take(count: number): number {
    const value = this.peek(count);
    this.#count -= count;
    this.#buffer = this.#count === 0 ? 0 : (this.#buffer & (2 ** this.#count - 1)) >>> 0;
    return value;
  }

  /** @throws Malformed when no code begins with the bits that come next */
  symbol({ table, bits }: PrefixCode): number {
    const entry = table[this.peek(bits)] as number;
    if (entry === 0) throw new Malformed("no code begins so");
    this.take(entry & 31);
    return entry >>> 5;
  }

  /** Drops what is left of the present word; where none is begun, a whole one. */
  align(): void {
    if (this.#count === 0) this.at += 2;
    // Behind the rest of a word a whole one may have been read ahead: it goes back.
    else if (this.#count > 16) this.at -= 2;
    this.#count = 0;
    this.#buffer = 0;
  }

  get past(): boolean {
    return this.at > this.bytes.length + 4;
  }
}

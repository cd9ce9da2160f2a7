import { Malformed } from "./malformed";
/** Numbers of 0 to 2 to the 53rd in 7 bits a byte, the low ones first (LEB128; DWARF 4, section 7.6). */

export function pushNumber(out: number[], value: number): void {
  let left = value;
  for (; left >= 0x80; left = Math.floor(left / 128)) out.push((left % 128) | 0x80);
  out.push(left);
}

export class NumberReader {
  constructor(
    private readonly bytes: Uint8Array,
    public at = 0,
  ) {}

  get ended(): boolean {
    return this.at >= this.bytes.length;
  }

  /** @throws Malformed when the bytes end within a number */
  next(): number {
    let value = 0;
    for (let shift = 1; ; shift *= 128) {
      const byte = this.bytes[this.at];
      if (byte === undefined) throw new Malformed("the numbers break off");
      this.at += 1;
      value += (byte & 0x7f) * shift;
      if (byte < 0x80) return value;
    }
  }
}

/** Ascending multiples of `unit`, as their distances in units. */
export function encodeAscending(numbers: readonly number[], unit: number): Uint8Array {
  const out: number[] = [];
  let before = 0;
  for (const number of numbers) {
    pushNumber(out, (number - before) / unit);
    before = number;
  }
  return Uint8Array.from(out);
}

/** @throws Malformed when the bytes end within a number */
export function* decodeAscending(bytes: Uint8Array, unit: number): Generator<number, void, void> {
  const reader = new NumberReader(bytes);
  for (let at = 0; !reader.ended; ) {
    at += reader.next() * unit;
    yield at;
  }
}

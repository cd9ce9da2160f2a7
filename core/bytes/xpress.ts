import { prefixCode } from "./huffman";
import { Malformed } from "./malformed";

/** [MS-XCA] 2.2.4: 512 symbols, their code lengths in 4 bits each; below 256 a byte, above a match. */
const SYMBOLS = 512;
const TABLE_BYTES = SYMBOLS / 2;
const CODE_BITS = 15;
const SHORTEST = 3;
/** Output of one code table; after that the next table follows. */
const BLOCK = 65_536;

/**
 * Decodes LZ77 with Huffman coding ([MS-XCA] 2.2, as the system's own compression of files uses it).
 * @returns `length` bytes; those after a damage stay zero
 */
export function decodeXpress(coded: Uint8Array, length: number): { bytes: Uint8Array; sound: boolean } {
  const bytes = new Uint8Array(length);
  let done = 0;
  let at = 0;
  try {
    while (done < length) {
      if (at + TABLE_BYTES > coded.length) return { bytes, sound: false };
      const lengths = new Uint8Array(SYMBOLS);
      for (let i = 0; i < TABLE_BYTES; i += 1) {
        const pair = coded[at + i] as number;
        lengths[2 * i] = pair & 15;
        lengths[2 * i + 1] = pair >>> 4;
      }
      const code = prefixCode(lengths, CODE_BITS);
      const end = Math.min(length, done + BLOCK);
      const reader = new XpressBits(coded, at + TABLE_BYTES);
      while (done < end) {
        const symbol = reader.symbol(code.table);
        if (symbol < 256) {
          bytes[done] = symbol;
          done += 1;
          continue;
        }
        const offsetBits = (symbol - 256) >>> 4;
        let count = (symbol - 256) & 15;
        if (count === 15) count = reader.longLength();
        count += SHORTEST;
        const offset = 2 ** offsetBits + reader.bits(offsetBits);
        if (offset > done || count > length - done) return { bytes, sound: false };
        for (let i = 0; i < count; i += 1, done += 1) bytes[done] = bytes[done - offset] as number;
      }
      if (reader.past) return { bytes, sound: false };
      at = reader.at;
    }
    return { bytes, sound: true };
  } catch (error) {
    if (error instanceof Malformed) return { bytes, sound: false };
    throw error;
  }
}

/** The bit reader of 2.2.4: 32 bits ahead, refilled by words; whole bytes of long lengths are taken from behind what is read ahead. */
class XpressBits {
  at: number;
  #next: number;
  #extra: number;

  constructor(
    private readonly coded: Uint8Array,
    at: number,
  ) {
    this.#next = ((this.#word(at) << 16) | this.#word(at + 2)) >>> 0;
    this.at = at + 4;
    this.#extra = 16;
  }

  get past(): boolean {
    return this.at > this.coded.length + 4;
  }

  symbol(table: Uint32Array): number {
    const entry = table[this.#next >>> (32 - CODE_BITS)] as number;
    if (entry === 0) throw new Malformed("no code begins so");
    this.#drop(entry & 31);
    return entry >>> 5;
  }

  bits(count: number): number {
    if (count === 0) return 0;
    const value = this.#next >>> (32 - count);
    this.#drop(count);
    return value;
  }

  longLength(): number {
    const first = this.#byte();
    if (first < 255) return first + 15;
    const word = this.#byte() | (this.#byte() << 8);
    const long = word > 0 ? word : this.#byte() + this.#byte() * 256 + this.#byte() * 65_536 + this.#byte() * 16_777_216;
    if (long < 15) throw new Malformed("a length that cannot be");
    return long;
  }

  #drop(count: number): void {
    this.#next = count === 32 ? 0 : (this.#next << count) >>> 0;
    this.#extra -= count;
    if (this.#extra < 0) {
      this.#next = (this.#next | (this.#word(this.at) << -this.#extra)) >>> 0;
      this.at += 2;
      this.#extra += 16;
    }
  }

  #word(at: number): number {
    return (this.coded[at] ?? 0) | ((this.coded[at + 1] ?? 0) << 8);
  }

  #byte(): number {
    const byte = this.coded[this.at] ?? 0;
    this.at += 1;
    return byte;
  }
}

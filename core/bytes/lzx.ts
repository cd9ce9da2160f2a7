import { type PrefixCode, prefixCode, WordBits } from "./huffman";
import { Malformed } from "./malformed";

/**
 * LZX as the system's own compression of files uses it: chunks of 32 KiB, each by itself. The coding is described in
 * [MS-PATCH] 2 ("LZX DELTA Compression and Decompression") and in the cabinet format's documentation; what differs here (the
 * short form of a block's size, the fixed size for the translation of calls) follows the open documentation of the imaging
 * format, from memory.
 */
const WINDOW = 32_768;
const BLOCK = { verbatim: 1, aligned: 2, uncompressed: 3 } as const;
const SLOTS = 30;
const MAIN = 256 + SLOTS * 8;
const LENGTHS = 249;
const PRE_BITS = 15;
const MAIN_BITS = 16;
const ALIGNED_BITS = 7;
const SHORTEST = 2;
/** Calls are translated as if every file were this long. */
const CALL_SIZE = 12_000_000;

const EXTRA = Uint8Array.from({ length: SLOTS }, (_, slot) => (slot < 4 ? 0 : (slot >> 1) - 1));
const BASE = new Uint32Array(SLOTS);
for (let slot = 1; slot < SLOTS; slot += 1) BASE[slot] = (BASE[slot - 1] as number) + 2 ** (EXTRA[slot - 1] as number);

/** @returns `length` bytes; those after a damage stay zero */
export function decodeLzx(coded: Uint8Array, length: number): { bytes: Uint8Array; sound: boolean } {
  const bytes = new Uint8Array(length);
  try {
    new Decoder(coded, bytes).run();
    translateCalls(bytes);
    return { bytes, sound: true };
  } catch (error) {
    if (!(error instanceof Malformed)) throw error;
    return { bytes, sound: false };
  }
}

class Decoder {
  readonly #input: WordBits;
  readonly #main = new Uint8Array(MAIN);
  readonly #length = new Uint8Array(LENGTHS);
  #recent: [number, number, number] = [1, 1, 1];
  #done = 0;

  constructor(
    coded: Uint8Array,
    private readonly out: Uint8Array,
  ) {
    this.#input = new WordBits(coded, 0);
  }

  run(): void {
    while (this.#done < this.out.length) {
      const kind = this.#input.take(3);
      const size = this.#input.take(1) === 1 ? WINDOW : this.#input.take(16);
      if (size < 1 || size > this.out.length - this.#done) throw new Malformed("a block longer than the chunk");
      if (kind === BLOCK.uncompressed) this.#copyBlock(size);
      else if (kind === BLOCK.verbatim || kind === BLOCK.aligned) this.#codedBlock(size, kind === BLOCK.aligned);
      else throw new Malformed("a kind of block that does not exist");
    }
  }

  #copyBlock(size: number): void {
    const input = this.#input;
    input.align();
    const view = new DataView(input.bytes.buffer, input.bytes.byteOffset, input.bytes.byteLength);
    if (input.at + 12 + size > view.byteLength) throw new Malformed("the data break off");
    this.#recent = [view.getUint32(input.at, true), view.getUint32(input.at + 4, true), view.getUint32(input.at + 8, true)];
    this.out.set(input.bytes.subarray(input.at + 12, input.at + 12 + size), this.#done);
    this.#done += size;
    input.at += 12 + size + (size & 1);
  }

  #codedBlock(size: number, aligned: boolean): void {
    const input = this.#input;
    const alignedLengths = new Uint8Array(8);
    if (aligned) for (let i = 0; i < 8; i += 1) alignedLengths[i] = input.take(3);
    this.#readLengths(this.#main, 0, 256);
    this.#readLengths(this.#main, 256, MAIN);
    this.#readLengths(this.#length, 0, LENGTHS);
    const main = prefixCode(this.#main, MAIN_BITS);
    const length = prefixCode(this.#length, MAIN_BITS);
    const low = aligned ? prefixCode(alignedLengths, ALIGNED_BITS) : null;
    for (const end = this.#done + size; this.#done < end; ) {
      if (input.past) throw new Malformed("the data break off");
      const symbol = input.symbol(main);
      if (symbol < 256) {
        this.out[this.#done] = symbol;
        this.#done += 1;
      } else this.#match(symbol - 256, length, low, end);
    }
  }

  #match(symbol: number, lengths: PrefixCode, low: PrefixCode | null, end: number): void {
    const input = this.#input;
    let count = symbol & 7;
    if (count === 7) count += input.symbol(lengths);
    count += SHORTEST;
    const slot = symbol >>> 3;
    const [first, second, third] = this.#recent;
    let offset: number;
    if (slot === 0) offset = first;
    else if (slot === 1) {
      offset = second;
      this.#recent = [second, first, third];
    } else if (slot === 2) {
      offset = third;
      this.#recent = [third, second, first];
    } else {
      const extra = EXTRA[slot] as number;
      const more = low && extra >= 3 ? input.take(extra - 3) * 8 + input.symbol(low) : input.take(extra);
      offset = (BASE[slot] as number) + more - 2;
      this.#recent = [offset, first, second];
    }
    if (offset < 1 || offset > this.#done || count > end - this.#done) throw new Malformed("a match outside the chunk");
    for (let i = 0; i < count; i += 1, this.#done += 1) this.out[this.#done] = this.out[this.#done - offset] as number;
  }

  /** Lengths of codes, given as differences from those of the block before, themselves coded. */
  #readLengths(lengths: Uint8Array, from: number, end: number): void {
    const input = this.#input;
    const own = new Uint8Array(20);
    for (let i = 0; i < 20; i += 1) own[i] = input.take(4);
    const code = prefixCode(own, PRE_BITS);
    const changed = (at: number, step: number) => ((lengths[at] as number) - step + 17) % 17;
    for (let at = from; at < end; ) {
      const symbol = input.symbol(code);
      if (symbol < 17) {
        lengths[at] = changed(at, symbol);
        at += 1;
        continue;
      }
      const run = symbol === 17 ? 4 + input.take(4) : symbol === 18 ? 20 + input.take(5) : 4 + input.take(1);
      const value = symbol === 19 ? changed(at, input.symbol(code)) : 0;
      if (at + run > end) throw new Malformed("lengths past the last symbol");
      lengths.fill(value, at, at + run);
      at += run;
    }
  }
}

/** Relative targets of calls were made absolute before coding; this makes them relative again. */
function translateCalls(bytes: Uint8Array): void {
  const view = new DataView(bytes.buffer, bytes.byteOffset, bytes.byteLength);
  for (let at = bytes.indexOf(0xe8); at >= 0 && at < bytes.length - 10; at = bytes.indexOf(0xe8, at)) {
    const target = view.getInt32(at + 1, true);
    if (target >= -at && target < CALL_SIZE) view.setInt32(at + 1, target >= 0 ? target - at : target + CALL_SIZE, true);
    at += 5;
  }
}

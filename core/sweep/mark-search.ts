import { MARKS_CODE } from "./marks-code";

/** Bytes looked through at once: few enough to stay in the processor's cache. */
export const BLOCK = 1 << 17;
/** Bytes behind a block that are looked at as well. */
export const AHEAD = 512;
export const SECTOR = 512;

/** What stands beside the place of a sector that comes out, and in the tables of beginnings. */
export const MAY = { begin: 1, beText: 2, lookCloser: 4 } as const;

/** Four bytes that are looked for together. */
export const WORD = 4;
const PAGE = 65_536;

/** What the compiled module gives: where its memory's parts begin, and the two loops. */
interface Compiled extends Record<Part, { readonly value: number }> {
  sectors(length: number, later: number, laterWord: number): number;
  anywhere(length: number): number;
}
type Part = "STARTS" | "FOURS" | "PAIRS" | "START_WORDS" | "ANY_WORDS" | "START_BITS" | "FOUR_BITS" | "BLOCK" | "OUT";

let compiled: WebAssembly.Module | null = null;

/** A number for four bytes, as they stand in memory. */
export const wordOf = (bytes: Uint8Array, at: number): number =>
  ((bytes[at] as number) | ((bytes[at + 1] as number) << 8) | ((bytes[at + 2] as number) << 16) | ((bytes[at + 3] as number) << 24)) >>> 0;

/** A number for two bytes. */
export const pairOf = (bytes: Uint8Array, at: number): number => (bytes[at] as number) | ((bytes[at + 1] as number) << 8);

/**
 * The loops that touch every byte of a sweep, and their tables. It brings up too much and never too little: whoever asks compares what
 * stands there with the marks themselves.
 */
export class MarkSearch {
  /** Read into this what is to be looked through: a block, and up to `AHEAD` bytes behind it. */
  readonly block: Uint8Array;
  /** By pairs of bytes at a sector's beginning, and four bytes on: what they may mean (`MAY`); and one bit each, whether they mean anything. */
  readonly #starts: Uint8Array;
  readonly #fours: Uint8Array;
  readonly #pairs: Uint8Array;
  readonly #startWords: Uint8Array;
  readonly #startBits: Uint8Array;
  readonly #fourBits: Uint8Array;
  readonly #anyWords: Uint8Array;
  readonly #out: Uint32Array;
  readonly #code: Compiled;
  #later = { at: 0, word: 0 };

  constructor() {
    // What is found comes last: four bytes for each of up to as many places as the block has bytes.
    const memory = new WebAssembly.Memory({ initial: (0x8_0000 + 4 * (BLOCK + 2 * AHEAD)) / PAGE + 1 });
    compiled ??= new WebAssembly.Module(Buffer.from(MARKS_CODE, "base64"));
    this.#code = new WebAssembly.Instance(compiled, { env: { memory } }).exports as unknown as Compiled;
    const part = (name: Part, length: number) => new Uint8Array(memory.buffer, this.#code[name].value, length);
    this.block = part("BLOCK", BLOCK + AHEAD);
    this.#starts = part("STARTS", 65_536);
    this.#fours = part("FOURS", 65_536);
    this.#pairs = part("PAIRS", 32_768);
    this.#startWords = part("START_WORDS", 8192);
    this.#anyWords = part("ANY_WORDS", 8192);
    this.#startBits = part("START_BITS", 8192);
    this.#fourBits = part("FOUR_BITS", 8192);
    this.#out = new Uint32Array(memory.buffer, this.#code.OUT.value);
  }

  /** A mark at a sector's beginning, or four bytes on. */
  addAtSectors(mark: Uint8Array, back: 0 | 4): void {
    this.#mean(pairOf(mark, 0), mark.length < WORD ? MAY.begin : MAY.lookCloser, back);
    if (mark.length >= WORD) know(this.#startWords, wordOf(mark, 0));
  }

  /** A pair of bytes with which text may begin. */
  addText(pair: number): void {
    this.#mean(pair, MAY.beText, 0);
  }

  #mean(pair: number, may: number, back: 0 | 4): void {
    const [table, bits] = back === 4 ? [this.#fours, this.#fourBits] : [this.#starts, this.#startBits];
    table[pair] = (table[pair] as number) | may;
    bits[pair >> 3] = (bits[pair >> 3] as number) | (1 << (pair & 7));
  }

  /** The one mark elsewhere within the first sector. @param at its place, @param word its first four bytes */
  setLater(at: number, word: number): void {
    this.#later = { at, word };
  }

  /** Four bytes that are looked for at every byte: one of their three pairs will stand at a place that is looked at. */
  addAnywhere(bytes: Uint8Array, at: number): void {
    know(this.#anyWords, wordOf(bytes, at));
    for (let i = 0; i < 3; i += 1) {
      const key = pairOf(bytes, at + i) & 0x7fff;
      this.#pairs[key] = (this.#pairs[key] as number) | (1 << i);
    }
  }

  /** Sectors of the block's first `length` bytes: their places, with `MAY.begin` and `MAY.beText` in the lowest bits. */
  sectors(length: number): Uint32Array {
    return this.#out.subarray(0, this.#code.sectors(length, this.#later.at, this.#later.word));
  }

  /**
   * Where the four bytes of a mark may stand, if a pair of them is within the block's first `length` bytes: up to `BLOCK + AHEAD`. One or
   * two of them may stand before the block.
   */
  *anywhere(length: number): Generator<number, void, void> {
    const count = this.#code.anywhere(length);
    for (let i = 0; i < count; i += 1) yield (this.#out[i] as number) - 2;
  }
}

/** Sets the bit of a word's hash; the compiled loops ask for it. */
function know(bits: Uint8Array, word: number): void {
  const hash = Math.imul(word, 0x9e3779b1) >>> 16;
  bits[hash >> 3] = (bits[hash >> 3] as number) | (1 << (hash & 7));
}

import type { BlockReader } from "./block-reader";
import { InflateError, TooMuch } from "./inflate";
import { decodeState, encodeState } from "./unpacker";

/**
 * LZMA and LZMA2, after the public-domain specification of the format ("LZMA specification", draft of 2015) and the .xz file
 * format 1.1.0, 5.3.1 for the chunks of LZMA2.
 */
const STATES = 12;
const POS_STATES_MAX = 16;
const PROB_INIT = 1024;
const MOST_DICTIONARY = 1 << 26;
/** Of lc and lp together: more than any known writer uses. */
const MOST_LITERAL_BITS = 8;

const probs = (count: number) => new Uint16Array(count).fill(PROB_INIT);

type Ten = [number, number, number, number, number, number, number, number, number, number, ...number[]];

class LengthCoder {
  readonly choice = probs(2);
  readonly low = Array.from({ length: POS_STATES_MAX }, () => probs(8));
  readonly mid = Array.from({ length: POS_STATES_MAX }, () => probs(8));
  readonly high = probs(256);
}

/** Decodes LZMA data chunk by chunk into a window that wraps round. */
export class LzmaDecoder {
  readonly #window: Uint8Array;
  #position = 0;
  #filled = 0;
  #pending = 0;
  plain = 0;

  #lc = 0;
  #lp = 0;
  #pb = 0;
  #literals: Uint16Array = probs(0);
  #isMatch = probs(0);
  #isRep = probs(0);
  #isRepG0 = probs(0);
  #isRepG1 = probs(0);
  #isRepG2 = probs(0);
  #isRep0Long = probs(0);
  #slots: Uint16Array[] = [];
  #special = probs(0);
  #align = probs(0);
  #length = new LengthCoder();
  #repLength = new LengthCoder();
  #state = 0;
  #reps = [0, 0, 0, 0];

  #range = 0;
  #code = 0;
  #at = 0;
  #end = 0;
  #goal = 0;

  constructor(
    private readonly reader: BlockReader,
    dictionary: number,
    private readonly take: (plain: Uint8Array) => void,
    private readonly most: number,
  ) {
    if (dictionary > MOST_DICTIONARY) throw new TooMuch();
    this.#window = new Uint8Array(Math.max(4096, dictionary));
  }

  /**
   * Sets how literals and places are weighed, and begins anew.
   * @param properties the byte that holds lc, lp and pb @param most of lc and lp together: tables for more take longer to make than data to unpack
   */
  setProperties(properties: number, most = MOST_LITERAL_BITS): boolean {
    if (properties >= 225 || (properties % 9) + (Math.floor(properties / 9) % 5) > most) return false;
    this.#lc = properties % 9;
    this.#lp = Math.floor(properties / 9) % 5;
    this.#pb = Math.floor(properties / 45);
    this.resetState();
    return true;
  }

  resetState(): void {
    this.#literals = probs(0x300 << (this.#lc + this.#lp));
    this.#isMatch = probs(STATES * POS_STATES_MAX);
    this.#isRep = probs(STATES);
    this.#isRepG0 = probs(STATES);
    this.#isRepG1 = probs(STATES);
    this.#isRepG2 = probs(STATES);
    this.#isRep0Long = probs(STATES * POS_STATES_MAX);
    this.#slots = Array.from({ length: 4 }, () => probs(64));
    this.#special = probs(128);
    this.#align = probs(16);
    this.#length = new LengthCoder();
    this.#repLength = new LengthCoder();
    this.#state = 0;
    this.#reps = [0, 0, 0, 0];
  }

  resetDictionary(): void {
    this.flush();
    this.#filled = 0;
  }

  put(byte: number): void {
    this.#window[this.#position] = byte;
    this.#position += 1;
    this.#pending += 1;
    this.plain += 1;
    if (this.#filled < this.#window.length) this.#filled += 1;
    if (this.#position === this.#window.length) {
      this.flush();
      this.#position = 0;
    }
  }

  flush(): void {
    if (this.#pending > 0) this.take(this.#window.subarray(this.#position - this.#pending, this.#position));
    this.#pending = 0;
    if (this.plain > this.most) throw new TooMuch();
  }

  #fail(reason = "the packed data are damaged"): never {
    throw new InflateError(Math.min(this.#at, this.#end), this.plain, reason);
  }

  #byte(): number {
    if (this.#at >= this.#end) this.#fail("the packed data break off");
    const byte = this.reader.u8(this.#at);
    this.#at += 1;
    return byte;
  }

  #bit(table: Uint16Array, index: number): number {
    if (this.#range >>> 24 === 0) {
      this.#range = (this.#range << 8) >>> 0;
      this.#code = ((this.#code << 8) | this.#byte()) >>> 0;
    }
    const prob = table[index] as number;
    const bound = (this.#range >>> 11) * prob;
    if (this.#code < bound) {
      this.#range = bound;
      table[index] = prob + ((2048 - prob) >> 5);
      return 0;
    }
    this.#range -= bound;
    this.#code -= bound;
    table[index] = prob - (prob >> 5);
    return 1;
  }

  #direct(count: number): number {
    let value = 0;
    for (let i = 0; i < count; i += 1) {
      if (this.#range >>> 24 === 0) {
        this.#range = (this.#range << 8) >>> 0;
        this.#code = ((this.#code << 8) | this.#byte()) >>> 0;
      }
      this.#range >>>= 1;
      const bit = this.#code >= this.#range ? 1 : 0;
      if (bit) this.#code -= this.#range;
      value = value * 2 + bit;
    }
    return value;
  }

  #tree(table: Uint16Array, bits: number): number {
    let symbol = 1;
    for (let i = 0; i < bits; i += 1) symbol = (symbol << 1) | this.#bit(table, symbol);
    return symbol - (1 << bits);
  }

  #reverse(table: Uint16Array, base: number, bits: number): number {
    let symbol = 1;
    let value = 0;
    for (let i = 0; i < bits; i += 1) {
      const bit = this.#bit(table, base + symbol);
      symbol = (symbol << 1) | bit;
      value |= bit << i;
    }
    return value;
  }

  #lengthOf(coder: LengthCoder, posState: number): number {
    if (this.#bit(coder.choice, 0) === 0) return this.#tree(coder.low[posState] as Uint16Array, 3);
    if (this.#bit(coder.choice, 1) === 0) return 8 + this.#tree(coder.mid[posState] as Uint16Array, 3);
    return 16 + this.#tree(coder.high, 8);
  }

  #back(distance: number): number {
    const at = this.#position - distance - 1;
    return this.#window[at < 0 ? at + this.#window.length : at] as number;
  }

  /**
   * Decodes the data in [at, end) until `size` plain bytes are there, or (with `size` unknown: -1) the end mark.
   * @returns the byte after the last one used
   */
  decode(at: number, end: number, size: number): number {
    this.begin(at, end, size);
    while (this.goOn(Number.POSITIVE_INFINITY));
    return this.#at;
  }

  /** The byte after the last one used. */
  get at(): number {
    return this.#at;
  }

  /** Begins with the data in [at, end), of so many plain bytes; with `size` unknown (-1) an end mark follows them. */
  begin(at: number, end: number, size: number): void {
    this.#at = at + 1;
    this.#end = end;
    if (this.reader.u8(at) !== 0) this.#fail();
    this.#range = 0xffff_ffff;
    this.#code = 0;
    for (let i = 0; i < 4; i += 1) this.#code = ((this.#code << 8) | this.#byte()) >>> 0;
    this.#goal = size < 0 ? Number.POSITIVE_INFINITY : this.plain + size;
  }

  /** Decodes at least so many further plain bytes, if there are. @returns whether there is more */
  goOn(step: number): boolean {
    const goal = this.#goal;
    const pause = Math.min(goal, this.plain + step);
    while (this.plain < pause) {
      const posState = this.plain & ((1 << this.#pb) - 1);
      if (this.#bit(this.#isMatch, this.#state * POS_STATES_MAX + posState) === 0) {
        this.#literal();
        continue;
      }
      let length: number;
      if (this.#bit(this.#isRep, this.#state) === 0) {
        this.#reps = [0, this.#reps[0] as number, this.#reps[1] as number, this.#reps[2] as number];
        length = this.#lengthOf(this.#length, posState);
        this.#state = this.#state < 7 ? 7 : 10;
        const distance = this.#distance(length);
        this.#reps[0] = distance;
        if (distance === 0xffff_ffff) {
          if (goal !== Number.POSITIVE_INFINITY) this.#fail();
          return false;
        }
      } else {
        if (this.#filled === 0) this.#fail();
        if (this.#bit(this.#isRepG0, this.#state) === 0) {
          if (this.#bit(this.#isRep0Long, this.#state * POS_STATES_MAX + posState) === 0) {
            this.#state = this.#state < 7 ? 9 : 11;
            if ((this.#reps[0] as number) >= this.#filled) this.#fail();
            this.put(this.#back(this.#reps[0] as number));
            continue;
          }
        } else this.#chooseRep();
        length = this.#lengthOf(this.#repLength, posState);
        this.#state = this.#state < 7 ? 8 : 11;
      }
      const distance = this.#reps[0] as number;
      if (distance >= this.#filled || this.plain + length + 2 > goal) this.#fail();
      for (let left = length + 2; left > 0; left -= 1) this.put(this.#back(distance));
    }
    return this.plain < goal;
  }

  /** All that is learnt from the data, table by table. */
  #tables(): readonly Uint16Array[] {
    const learnt = [this.#literals, this.#isMatch, this.#isRep, this.#isRepG0, this.#isRepG1, this.#isRepG2, this.#isRep0Long];
    const lengths = [this.#length, this.#repLength].flatMap(({ choice, low, mid, high }) => [choice, ...low, ...mid, high]);
    return [...learnt, ...this.#slots, this.#special, this.#align, ...lengths];
  }

  state(): Uint8Array {
    this.flush();
    // The window wraps round: its older part may stand at its end.
    const from = this.#position - this.#filled;
    const older = from < 0 ? this.#window.subarray(from + this.#window.length) : this.#window.subarray(from, this.#position);
    const newer = this.#window.subarray(0, from < 0 ? this.#position : 0);
    const tables = this.#tables().map((table) => new Uint8Array(table.buffer, table.byteOffset, table.byteLength));
    return encodeState(
      [...[this.plain, this.#lc, this.#lp, this.#pb, this.#state, this.#range, this.#code, this.#at, this.#end, this.#goal], ...this.#reps],
      ...[older, newer, ...tables],
    );
  }

  resume(state: Uint8Array): void {
    const { numbers, parts } = decodeState(state);
    const [plain, lc, lp, pb, own, range, code, at, end, goal, ...reps] = numbers as Ten;
    const [older, newer, ...tables] = parts as [Uint8Array, Uint8Array, ...Uint8Array[]];
    [this.plain, this.#lc, this.#lp, this.#pb, this.#at, this.#end, this.#goal] = [plain, lc, lp, pb, at, end, goal];
    this.resetState();
    for (const [index, table] of this.#tables().entries())
      new Uint8Array(table.buffer, table.byteOffset, table.byteLength).set(tables[index] as Uint8Array);
    [this.#state, this.#range, this.#code, this.#reps] = [own, range, code, reps];
    this.#window.set(older);
    this.#window.set(newer, older.length);
    this.#filled = older.length + newer.length;
    this.#position = this.#filled % this.#window.length;
    this.#pending = 0;
  }

  #chooseRep(): void {
    const [r0, r1, r2, r3] = this.#reps as [number, number, number, number];
    if (this.#bit(this.#isRepG1, this.#state) === 0) this.#reps = [r1, r0, r2, r3];
    else if (this.#bit(this.#isRepG2, this.#state) === 0) this.#reps = [r2, r0, r1, r3];
    else this.#reps = [r3, r0, r1, r2];
  }

  #literal(): void {
    const before = this.#filled > 0 ? this.#back(0) : 0;
    const context = ((this.plain & ((1 << this.#lp) - 1)) << this.#lc) + (before >> (8 - this.#lc));
    const base = 0x300 * context;
    let symbol = 1;
    if (this.#state >= 7) {
      let match = this.#filled > (this.#reps[0] as number) ? this.#back(this.#reps[0] as number) : 0;
      do {
        const matchBit = (match >> 7) & 1;
        match <<= 1;
        const bit = this.#bit(this.#literals, base + ((1 + matchBit) << 8) + symbol);
        symbol = (symbol << 1) | bit;
        if (matchBit !== bit) break;
      } while (symbol < 0x100);
    }
    while (symbol < 0x100) symbol = (symbol << 1) | this.#bit(this.#literals, base + symbol);
    this.put(symbol & 0xff);
    this.#state = this.#state < 4 ? 0 : this.#state < 10 ? this.#state - 3 : this.#state - 6;
  }

  #distance(length: number): number {
    const slot = this.#tree(this.#slots[Math.min(length, 3)] as Uint16Array, 6);
    if (slot < 4) return slot;
    const bits = (slot >> 1) - 1;
    const base = (2 | (slot & 1)) * 2 ** bits;
    if (slot < 14) return base + this.#reverse(this.#special, base - slot, bits);
    return base + this.#direct(bits - 4) * 16 + this.#reverse(this.#align, 0, 4);
  }
}

import type { BlockReader } from "./block-reader";
import { readBytes } from "./byte-source";
import { CRC32_FORWARD } from "./crc-forward";
import { InflateError, TooMuch } from "./inflate";
import { PastEnd } from "./past-end";
import { unpacked } from "./unpacked";
import { decodeState, encodeState, type Unpacker } from "./unpacker";

/** BZIP2, after the published format description of the open-source package (no standard exists). */
const BLOCK_MARK = 0x314159265359;
const END_MARK = 0x177245385090;

/**
 * Unpacks a stream that begins at `at` and compares its checksums.
 * @returns the byte after its end
 * @throws InflateError, TooMuch
 */
export function unpackBzip2(
  reader: BlockReader,
  at: number,
  most = Number.POSITIVE_INFINITY,
  take: (plain: Uint8Array) => void = () => undefined,
): { end: number; plain: number } {
  return new Bzip2(reader, at, most, take).run();
}

/** Unpacks such a stream piece by piece, a block at a time. */
export const bzip2Unpacker = (
  reader: BlockReader,
  at: number,
  take: (plain: Uint8Array) => void,
): Unpacker & { /** The byte after the end of the stream, once that was reached. */ readonly packedEnd: number } =>
  new Bzip2(reader, at, Number.POSITIVE_INFINITY, take);

const MARK_BITS = 48;
/** Where a mark of a block or of a stream's end next stands, at or behind a bit; null: none does. */
function findMark(reader: BlockReader, from: number): number | null {
  // The last 64 bits, as two halves.
  let [high, low] = [0, 0];
  const first = Math.floor(from / 8);
  for (const { at, bytes } of reader.blocks(first, reader.size))
    for (let i = 0; i < bytes.length; i += 1) {
      high = ((high << 8) | (low >>> 24)) >>> 0;
      low = ((low << 8) | (bytes[i] as number)) >>> 0;
      for (let after = 7; after >= 0; after -= 1) {
        // The mark's last 24 bits, those of the two kinds, with so many bits behind them.
        const end = ((low >>> after) | (after > 0 ? high << (32 - after) : 0)) & 0xff_ffff;
        if (end !== 0x26_5359 && end !== 0x38_5090) continue;
        const bit = 8 * (at + i + 1) - after - MARK_BITS;
        if (bit >= from && isMark(reader, bit)) return bit;
      }
    }
  return null;
}

function isMark(reader: BlockReader, bit: number): boolean {
  // The reader's block changes under whoever goes through it: a reader of its own looks.
  const bytes = readBytes(reader.source, Math.floor(bit / 8), MARK_BITS / 8 + 1);
  let mark = 0;
  for (let i = 0; i < MARK_BITS; i += 1) mark = mark * 2 + (((bytes[((bit % 8) + i) >> 3] as number) >> (7 - ((bit + i) % 8))) & 1);
  return mark === BLOCK_MARK || mark === END_MARK;
}

/** Bits of a code at most, and of one that is looked up at once. */
const LONGEST = 20;
const SHORT = 10;

/** For each length the first code, how many, and where its symbols begin; and for the next `SHORT` bits: length << 9 | symbol, 0: a longer one. */
interface Code {
  readonly first: Int32Array;
  readonly counts: Int32Array;
  readonly offsets: Int32Array;
  readonly symbols: Uint16Array;
  readonly short: Uint16Array;
}

function codeOf(lengths: Uint8Array): Code {
  const counts = new Int32Array(LONGEST + 2);
  for (const each of lengths) counts[each] = (counts[each] as number) + 1;
  const first = new Int32Array(LONGEST + 2);
  const offsets = new Int32Array(LONGEST + 2);
  for (let i = 1, code = 0, offset = 0; i <= LONGEST; i += 1) {
    first[i] = code;
    offsets[i] = offset;
    code = (code + (counts[i] as number)) << 1;
    offset += counts[i] as number;
  }
  const symbols = new Uint16Array(lengths.length);
  const next = offsets.slice();
  const short = new Uint16Array(1 << SHORT);
  for (let symbol = 0; symbol < lengths.length; symbol += 1) {
    const length = lengths[symbol] as number;
    const place = next[length] as number;
    symbols[place] = symbol;
    next[length] = place + 1;
    if (length > SHORT) continue;
    const code = (first[length] as number) + place - (offsets[length] as number);
    // Lengths that ask for more codes than there are (damage) lead past the table, where nothing is written.
    short.fill((length << 9) | symbol, code << (SHORT - length), (code + 1) << (SHORT - length));
  }
  return { first, counts, offsets, symbols, short };
}

class Bzip2 implements Unpacker {
  #bits = 0;
  #count = 0;
  #plain = 0;
  readonly #out = new Uint8Array(1 << 16);
  #filled = 0;
  #crc = 0;
  #combined = 0;
  /** Plain bytes of a block at most, before the runs in it are written out; 0: the stream has not begun. */
  #size = 0;
  /** The bit at which the present block begins. */
  #blockAt = 0;
  /** Some of it was skipped: the checksum of all of it cannot agree. */
  #skipped = false;
  /** What the present block has given: it counts when its checksum agrees. */
  #given: Uint8Array[] = [];

  constructor(
    private readonly reader: BlockReader,
    private at: number,
    private readonly most: number,
    private readonly take: (plain: Uint8Array) => void,
  ) {}

  get packedEnd(): number {
    return this.at;
  }

  get soundTo(): number {
    return this.#plain;
  }

  run(): { end: number; plain: number } {
    while (this.goOn());
    return { end: this.at, plain: this.#plain };
  }

  goOn(): boolean {
    try {
      if (this.#size === 0) {
        this.#blockAt = 8 * this.at;
        this.#begin();
      }
      this.#blockAt = 8 * this.at - this.#count;
      const mark = this.#need(24) * 0x100_0000 + this.#need(24);
      const crc = this.#need(16) * 0x1_0000 + this.#need(16);
      if (mark === END_MARK) {
        if (crc !== this.#combined && !this.#skipped) this.#fail("the checksum does not match");
        return false;
      }
      if (mark !== BLOCK_MARK) this.#fail("no block begins where the next one should");
      this.#crc = 0xffff_ffff;
      this.#filled = 0;
      this.#given = [];
      this.#block(this.#size);
      this.#flush();
      const found = ~this.#crc >>> 0;
      if (found !== crc) this.#fail("the checksum of a block does not match");
      this.#combined = (((this.#combined << 1) | (this.#combined >>> 31)) ^ found) >>> 0;
      this.#give();
      return true;
    } catch (error) {
      if (error instanceof PastEnd) throw new InflateError(this.reader.size, this.#plain, "the packed data break off");
      throw error;
    }
  }

  #begin(): void {
    const level = this.reader.u8(this.at + 3) - 0x30;
    // "BZh" and the size of blocks, 1 to 9 times 100,000 bytes: anything else is none, however large a block it would have.
    if (!this.reader.has(this.at, "BZh") || level < 1 || level > 9) this.#fail("no packed data begin here");
    this.at += 4;
    this.#size = level * 100_000;
  }

  /** Goes to the next mark of a block, or of a stream's end, at any bit. */
  skip(): boolean {
    const { reader } = this;
    const bit = findMark(reader, this.#blockAt + 1);
    if (bit === null) return false;
    // It may be the first block of another stream.
    const head = bit / 8 - 4;
    const level = Number.isInteger(head) && head >= 0 && reader.has(head, "BZh") ? reader.u8(head + 3) - 0x30 : 0;
    if (level >= 1 && level <= 9) this.#size = level * 100_000;
    else if (this.#size === 0) this.#size = 900_000;
    this.at = Math.floor(bit / 8);
    [this.#bits, this.#count] = [0, 0];
    this.#need(bit % 8);
    this.#skipped = true;
    return true;
  }

  state(): Uint8Array {
    const numbers = [this.at, this.#bits, this.#count, this.#plain, this.#combined, this.#size, this.#skipped ? 1 : 0];
    return encodeState(numbers);
  }

  resume(state: Uint8Array): void {
    const { numbers } = decodeState(state);
    const [at, bits, count, plain, combined, size, skipped] = numbers as [number, number, number, number, number, number, number];
    [this.at, this.#bits, this.#count, this.#plain, this.#combined, this.#size] = [at, bits, count, plain, combined, size];
    this.#skipped = skipped === 1;
  }

  #fail(reason = "the packed data are damaged"): never {
    throw new InflateError(this.at, this.#plain, reason);
  }

  /** At most 24 bits. */
  #need(length: number): number {
    while (this.#count < length) {
      this.#bits = ((this.#bits << 8) | this.reader.u8(this.at)) >>> 0;
      this.#count += 8;
      this.at += 1;
    }
    this.#count -= length;
    return (this.#bits >>> this.#count) & (2 ** length - 1);
  }

  #block(size: number): void {
    if (this.#need(1)) this.#fail("an old kind of block is not followed");
    const origin = this.#need(24);
    const symbols = this.#symbols();
    const groups = this.#need(3);
    const selectorCount = this.#need(15);
    if (groups < 2 || groups > 6 || selectorCount === 0) this.#fail();
    const order = Array.from({ length: groups }, (_, i) => i);
    const selectors = new Uint8Array(selectorCount);
    for (let i = 0; i < selectorCount; i += 1) {
      let place = 0;
      while (this.#need(1)) {
        place += 1;
        if (place >= groups) this.#fail();
      }
      const [group] = order.splice(place, 1) as [number];
      order.unshift(group);
      selectors[i] = group;
    }
    const codes = Array.from({ length: groups }, () => this.#code(symbols.length + 2));
    const block = new Uint32Array(size);
    const length = this.#moves(block, size, symbols, selectors, codes);
    if (origin >= length) this.#fail();
    this.#turnBack(block, length, origin);
  }

  #symbols(): number[] {
    const used = this.#need(16);
    const symbols: number[] = [];
    for (let i = 0; i < 16; i += 1) {
      if (!(used & (0x8000 >> i))) continue;
      const row = this.#need(16);
      for (let j = 0; j < 16; j += 1) if (row & (0x8000 >> j)) symbols.push(i * 16 + j);
    }
    if (symbols.length === 0) this.#fail();
    return symbols;
  }

  /** Reads the lengths of a code, and makes the code of them. */
  #code(count: number): Code {
    const lengths = new Uint8Array(count);
    let length = this.#need(5);
    for (let i = 0; i < count; i += 1) {
      for (;;) {
        if (length < 1 || length > LONGEST) this.#fail();
        if (!this.#need(1)) break;
        length += this.#need(1) ? -1 : 1;
      }
      lengths[i] = length;
    }
    return codeOf(lengths);
  }

  #moves(block: Uint32Array, size: number, symbols: readonly number[], selectors: Uint8Array, codes: readonly Code[]): number {
    const front = Uint8Array.from(symbols);
    const end = symbols.length + 1;
    let [length, run, weight, group, left] = [0, 0, 1, -1, 0];
    let code = codes[0] as Code;
    for (;;) {
      if (left === 0) {
        group += 1;
        if (group >= selectors.length) this.#fail();
        code = codes[selectors[group] as number] as Code;
        left = 50;
      }
      left -= 1;
      const value = this.#symbol(code);
      if (value < 2) {
        run += weight << value;
        weight <<= 1;
        if (run > size) this.#fail();
        continue;
      }
      if (run > 0) {
        if (length + run > size) this.#fail();
        block.fill(front[0] as number, length, length + run);
        length += run;
        [run, weight] = [0, 1];
      }
      if (value === end) return length;
      if (length >= size || value > end) this.#fail();
      const byte = front[value - 1] as number;
      front.copyWithin(1, 0, value - 1);
      front[0] = byte;
      block[length] = byte;
      length += 1;
    }
  }

  /** Reads a symbol: short codes by a look at the next bits, longer ones bit by bit. */
  #symbol({ short, first, counts, offsets, symbols }: Code): number {
    while (this.#count < SHORT && this.at < this.reader.size) {
      this.#bits = ((this.#bits << 8) | this.reader.u8(this.at)) >>> 0;
      this.#count += 8;
      this.at += 1;
    }
    if (this.#count >= SHORT) {
      const entry = short[(this.#bits >>> (this.#count - SHORT)) & (2 ** SHORT - 1)] as number;
      if (entry !== 0) {
        this.#count -= entry >> 9;
        return entry & 0x1ff;
      }
    }
    for (let value = 0, bits = 1; bits <= LONGEST; bits += 1) {
      value = (value << 1) | this.#need(1);
      const index = value - (first[bits] as number);
      if (index >= 0 && index < (counts[bits] as number)) return symbols[(offsets[bits] as number) + index] as number;
    }
    return this.#fail();
  }

  /** Undoes the Burrows-Wheeler transform and the runs before it. */
  #turnBack(block: Uint32Array, length: number, origin: number): void {
    const starts = new Uint32Array(256);
    for (let i = 0; i < length; i += 1) {
      const byte = (block[i] as number) & 0xff;
      starts[byte] = (starts[byte] as number) + 1;
    }
    let sum = 0;
    for (let byte = 0; byte < 256; byte += 1) {
      const count = starts[byte] as number;
      starts[byte] = sum;
      sum += count;
    }
    for (let i = 0; i < length; i += 1) {
      const byte = (block[i] as number) & 0xff;
      const place = starts[byte] as number;
      starts[byte] = place + 1;
      block[place] = ((block[place] as number) | (i << 8)) >>> 0;
    }
    let place = (block[origin] as number) >>> 8;
    let [before, same] = [-1, 0];
    for (let i = 0; i < length; i += 1) {
      const entry = block[place] as number;
      const byte = entry & 0xff;
      place = entry >>> 8;
      if (same === 4) {
        for (let times = byte; times > 0; times -= 1) this.#put(before);
        same = 0;
        before = -1;
        continue;
      }
      same = byte === before ? same + 1 : 1;
      before = byte;
      this.#put(byte);
    }
  }

  #put(byte: number): void {
    this.#crc = ((this.#crc << 8) ^ (CRC32_FORWARD[(this.#crc >>> 24) ^ byte] as number)) >>> 0;
    this.#out[this.#filled] = byte;
    this.#filled += 1;
    if (this.#filled === this.#out.length) this.#flush();
  }

  #flush(): void {
    unpacked.bytes += this.#filled;
    this.#given.push(this.#out.slice(0, this.#filled));
    this.#filled = 0;
  }

  #give(): void {
    for (const piece of this.#given.splice(0)) {
      this.#plain += piece.length;
      this.take(piece);
    }
    if (this.#plain > this.most) throw new TooMuch();
  }
}

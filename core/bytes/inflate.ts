import type { BlockReader } from "./block-reader";
import { type Code, type Codes, codeOf, codesOf, FIXED, PLAIN, WIDE } from "./deflate-codes";
import { PastEnd } from "./past-end";
import { unpacked } from "./unpacked";
import { decodeState, encodeState, type Unpacker } from "./unpacker";

/** The packed bytes stop making sense at `at`; `plain` bytes had been unpacked. */
export class InflateError extends Error {
  /**
   * @param blockAt the bit at which the block begins in which that happened, counted from the reader's first
   * @param blocks how many had been unpacked whole
   */
  constructor(
    readonly at: number,
    readonly plain: number,
    readonly reason: string,
    readonly blockAt = 8 * at,
    readonly blocks = 0,
  ) {
    super(reason);
  }
}

/** More plain bytes come than the caller wants. */
export class TooMuch extends Error {}

/** 3.2.7: the order in which the lengths of the code length codes stand. */
const ORDER = [16, 17, 18, 0, 8, 7, 9, 6, 10, 5, 11, 4, 12, 3, 13, 2, 14, 1, 15];
const OUT = 1 << 15;
type Eleven = [number, number, number, number, number, number, number, number, number, number, number];

/** Packed bytes that are looked at in one go, and those that one length and distance take at most, and some more. */
const QUICK_BYTES = 1 << 14;
const QUICK_LEAST = 24;

/**
 * Unpacks DEFLATE data (RFC 1951) and says where they end, which no byte around them does.
 * @param at where the packed data begin
 * @param end where they end at the latest
 * @param take gets the plain bytes piece by piece, as views valid during the call
 * @param most plain bytes after which `TooMuch` is thrown
 * @returns the byte after the last packed one, and how many plain bytes there were
 * @throws InflateError, TooMuch
 */
export function inflate(
  reader: BlockReader,
  at: number,
  end: number,
  take: (plain: Uint8Array) => void,
  most = Number.POSITIVE_INFINITY,
): { end: number; plain: number } {
  return new Inflater(reader, at, Math.min(end, reader.size), take, most).run();
}

/** Unpacks data of the wider dialect of DEFLATE that ZIP archives may hold, otherwise as `inflate` does. @throws InflateError, TooMuch */
export function inflateWide(
  reader: BlockReader,
  at: number,
  end: number,
  take: (plain: Uint8Array) => void,
  most = Number.POSITIVE_INFINITY,
): { end: number; plain: number } {
  return new Inflater(reader, at, Math.min(end, reader.size), take, most, WIDE).run();
}

/**
 * Unpacks from a block in the midst of DEFLATE data on. What came before is not known: where it is referred to, `filler` stands.
 * @param bit where the block begins, counted from the reader's first
 */
export function inflateFrom(
  reader: BlockReader,
  bit: number,
  end: number,
  take: (plain: Uint8Array) => void,
  filler: number,
  most = Number.POSITIVE_INFINITY,
): { end: number; plain: number } {
  return new Inflater(reader, Math.floor(bit / 8), Math.min(end, reader.size), take, most).run({ skip: bit % 8, filler });
}

/** Unpacks from a block in the midst of DEFLATE data on as `inflateFrom` does, piece by piece. */
export function inflaterFrom(reader: BlockReader, bit: number, filler: number, take: (plain: Uint8Array) => void) {
  const unpacker = new Inflater(reader, Math.floor(bit / 8), reader.size, take, Number.POSITIVE_INFINITY);
  unpacker.begin({ skip: bit % 8, filler });
  return unpacker;
}

/**
 * Whether a block with codes of its own can begin at a bit (3.2.7): the lengths of its first code fit together. One place in some
 * thousands does, by chance.
 */
export function canBeginBlock(bytes: Uint8Array, bit: number): boolean {
  const u = (from: number, count: number) => {
    const at = (bit + from) >> 3;
    const all = (bytes[at] ?? 0) | ((bytes[at + 1] ?? 0) << 8) | ((bytes[at + 2] ?? 0) << 16);
    return (all >> ((bit + from) & 7)) & ((1 << count) - 1);
  };
  if (u(1, 2) !== 2 || u(3, 5) > 29 || u(8, 5) > 29) return false;
  const count = u(13, 4) + 4;
  let room = 128;
  for (let i = 0; i < count; i += 1) {
    const length = u(17 + 3 * i, 3);
    if (length > 0) room -= 128 >> length;
  }
  return room === 0;
}

/** Unpacks DEFLATE data, or those of the wider dialect, piece by piece. @param end where they end at the latest */
export const inflater = (
  reader: BlockReader,
  at: number,
  end: number,
  take: (plain: Uint8Array) => void,
  wide = false,
): Unpacker & {
  /** The byte after the last packed one that was read. */
  readonly packedEnd: number;
  /** Where the present block begins: its first bit, and how many plain bytes come before it. */
  readonly block: { readonly bit: number; readonly plain: number };
} => new Inflater(reader, at, Math.min(end, reader.size), take, Number.POSITIVE_INFINITY, wide ? WIDE : PLAIN);

/** The room of an unpacker that is over, for the next one: making it costs more than unpacking a small file. */
let spare: Uint8Array | null = null;

class Inflater implements Unpacker {
  readonly #out: Uint8Array;
  #filled = 0;
  #taken = 0;
  #plain = 0;
  #bits = 0;
  #count = 0;
  #blockAt = 0;
  #blockPlain = 0;
  #blocks = 0;
  /** The present block is the last one; it has its codes, or so many stored bytes left. Neither: it is over. */
  #last = false;
  #codes: Codes | null = null;
  #left = 0;
  /** Plain bytes have been given since it was asked to go on. */
  #gave = false;

  constructor(
    private readonly reader: BlockReader,
    private at: number,
    private readonly end: number,
    private readonly take: (plain: Uint8Array) => void,
    private readonly most: number,
    private readonly dialect = PLAIN,
  ) {
    const length = dialect.window + OUT + dialect.longest;
    this.#out = spare?.length === length ? spare : new Uint8Array(length);
    if (this.#out === spare) spare = null;
  }

  run(midst?: { skip: number; filler: number }): { end: number; plain: number } {
    try {
      if (midst) this.begin(midst);
      while (this.goOn()) this.#gave = false;
      return { end: this.packedEnd, plain: this.#plain };
    } finally {
      spare = this.#out;
    }
  }

  begin({ skip, filler }: { skip: number; filler: number }): void {
    const { window } = this.dialect;
    this.#out.fill(filler, 0, window);
    this.#filled = window;
    this.#taken = window;
    if (this.at < this.end) this.#need(skip);
  }

  /** Unpacks until plain bytes have been given, or to the end. @returns whether there is more */
  goOn(): boolean {
    this.#gave = false;
    try {
      while (!this.#gave) {
        if (this.#left > 0) this.#storedBytes();
        else if (this.#codes) this.#coded(this.#codes.lengths, this.#codes.distances);
        else if (this.#last) {
          this.#flush();
          return false;
        } else this.#block();
      }
    } catch (error) {
      this.#flush();
      if (error instanceof PastEnd) throw new InflateError(this.end, this.#plain, "the packed data break off", this.#blockAt, this.#blocks);
      throw error;
    }
    return true;
  }

  /** No checksum stands in the data: what was given may be wrong only where their sense ends. */
  get soundTo(): number {
    return this.#plain;
  }

  get packedEnd(): number {
    return this.at - (this.#count >> 3);
  }

  get block(): { bit: number; plain: number } {
    return { bit: this.#blockAt, plain: this.#blockPlain };
  }

  state(): Uint8Array {
    const kept = Math.min(this.dialect.window, this.#filled);
    const from = this.#codes?.from;
    return encodeState(
      [
        ...[this.at, this.#bits, this.#count, this.#plain, this.#left, this.#blockAt, this.#blocks],
        ...[this.#last ? 1 : 0, this.#filled - this.#taken, this.#codes ? 1 : 0, from?.split ?? -1],
      ],
      this.#out.subarray(this.#filled - kept, this.#filled),
      from?.all ?? new Uint8Array(0),
    );
  }

  resume(state: Uint8Array): void {
    const { numbers, parts } = decodeState(state);
    const [window, all] = parts as [Uint8Array, Uint8Array];
    const [at, bits, count, plain, left, blockAt, blocks, last, pending, coded, split] = numbers as Eleven;
    this.#out.set(window);
    this.#filled = window.length;
    this.#taken = window.length - pending;
    this.at = at;
    [this.#bits, this.#count, this.#plain, this.#left, this.#blockAt, this.#blocks] = [bits, count, plain, left, blockAt, blocks];
    this.#last = last === 1;
    this.#codes = coded === 0 ? null : split < 0 ? FIXED : codesOf(all.slice(), split);
  }

  #block(): void {
    this.#blockAt = 8 * this.at - this.#count;
    this.#blockPlain = this.#plain + this.#filled - this.#taken;
    this.#last = this.#need(1) === 1;
    const kind = this.#need(2);
    if (kind === 0) this.#stored();
    else if (kind === 1) this.#codes = FIXED;
    else if (kind === 2) this.#dynamic();
    else this.#fail("a block of a kind that does not exist");
    if (kind === 0 && this.#left === 0) this.#blocks += 1;
  }

  #fail(reason: string): never {
    throw new InflateError(this.at, this.#plain + this.#filled - this.#taken, reason, this.#blockAt, this.#blocks);
  }

  #need(length: number): number {
    while (this.#count < length) {
      if (this.at >= this.end) throw new PastEnd(this.at, 1, this.at);
      this.#bits |= this.reader.u8(this.at) << this.#count;
      this.#count += 8;
      this.at += 1;
    }
    const value = this.#bits & ((1 << length) - 1);
    this.#bits >>>= length;
    this.#count -= length;
    return value;
  }

  #symbol({ table, bits }: Code): number {
    while (this.#count < bits && this.at < this.end) {
      this.#bits |= this.reader.u8(this.at) << this.#count;
      this.#count += 8;
      this.at += 1;
    }
    const entry = table[this.#bits & (table.length - 1)] as number;
    const length = entry >> 12;
    if (length === 0) this.#fail("a code that does not exist");
    if (length > this.#count) throw new PastEnd(this.at, 1, this.at);
    this.#bits >>>= length;
    this.#count -= length;
    return entry & 0xfff;
  }

  #stored(): void {
    this.at -= this.#count >> 3;
    this.#bits = 0;
    this.#count = 0;
    if (this.at + 4 > this.end) throw new PastEnd(this.at, 1, this.at);
    const length = this.reader.u16(this.at);
    if (((length ^ this.reader.u16(this.at + 2)) & 0xffff) !== 0xffff) this.#fail("a stored block with a wrong length");
    this.at += 4;
    this.#left = length;
  }

  #storedBytes(): void {
    while (this.#left > 0 && !this.#gave) {
      const part = Math.min(this.#left, 4096, this.end - this.at);
      if (part <= 0) throw new PastEnd(this.at, 1, this.at);
      this.#room(part);
      this.#out.set(this.reader.bytes(this.at, part), this.#filled);
      this.#filled += part;
      this.at += part;
      this.#left -= part;
    }
    if (this.#left === 0) this.#blocks += 1;
  }

  #dynamic(): void {
    const lengths = this.#need(5) + 257;
    const distances = this.#need(5) + 1;
    const count = this.#need(4) + 4;
    if (lengths > 286 || distances > this.dialect.distanceBase.length) this.#fail("a code table with too many codes");
    const order = new Uint8Array(19);
    for (let i = 0; i < count; i += 1) order[ORDER[i] as number] = this.#need(3);
    const code = codeOf(order);
    if (!code) this.#fail("a damaged code table");
    const all = new Uint8Array(lengths + distances);
    for (let i = 0; i < all.length; ) {
      const symbol = this.#symbol(code as Code);
      if (symbol < 16) {
        all[i] = symbol;
        i += 1;
        continue;
      }
      if (symbol === 16 && i === 0) this.#fail("a damaged code table");
      const [value, times] =
        symbol === 16 ? [all[i - 1] as number, 3 + this.#need(2)] : [0, symbol === 17 ? 3 + this.#need(3) : 11 + this.#need(7)];
      if (i + times > all.length) this.#fail("a damaged code table");
      all.fill(value, i, i + times);
      i += times;
    }
    this.#codes = codesOf(all, lengths) ?? this.#fail("a damaged code table");
  }

  #coded(lengths: Code, distances: Code): void {
    const out = this.#out;
    const { lengthBase, lengthExtra, distanceBase, distanceExtra } = this.dialect;
    while (!this.#gave) {
      if (this.#quickly(lengths, distances)) return;
      const symbol = this.#symbol(lengths);
      if (symbol < 256) {
        this.#room(1);
        out[this.#filled] = symbol;
        this.#filled += 1;
        continue;
      }
      if (symbol === 256) {
        this.#codes = null;
        this.#blocks += 1;
        return;
      }
      const length =
        (lengthBase[symbol - 257] ?? this.#fail("a length that does not exist")) + this.#need(lengthExtra[symbol - 257] as number);
      const far = this.#symbol(distances);
      const distance = (distanceBase[far] ?? this.#fail("a distance that does not exist")) + this.#need(distanceExtra[far] as number);
      this.#room(length);
      if (distance > this.#filled) this.#fail("a distance beyond the beginning");
      for (let i = 0; i < length; i += 1) out[this.#filled + i] = out[this.#filled + i - distance] as number;
      this.#filled += length;
    }
  }

  /**
   * Decodes as `#coded` does while enough packed bytes and room are at hand, without asking after each. Leaves what it cannot decode to that.
   * @returns whether the block's end was met
   */
  #quickly(lengths: Code, distances: Code): boolean {
    const there = Math.min(this.end - this.at, QUICK_BYTES);
    if (there < QUICK_LEAST) return false;
    const packed = this.reader.bytes(this.at, there);
    const out = this.#out;
    const { lengthBase, lengthExtra, distanceBase, distanceExtra, longest } = this.dialect;
    const lengthTable = lengths.table;
    const lengthMask = lengthTable.length - 1;
    const distanceTable = distances.table;
    const distanceMask = distanceTable.length - 1;
    const lastFilled = out.length - longest;
    const lastNext = there - QUICK_LEAST;
    let next = 0;
    let bits = this.#bits;
    let count = this.#count;
    let filled = this.#filled;
    let isOver = false;
    while (next <= lastNext && filled <= lastFilled) {
      // What is to be left to `#coded` is not taken. (Single assignments: taking a list apart costs as much as the rest.)
      const atNext = next;
      const atBits = bits;
      const atCount = count;
      while (count < 24) {
        bits |= (packed[next] as number) << count;
        next += 1;
        count += 8;
      }
      const entry = lengthTable[bits & lengthMask] as number;
      const taken = entry >> 12;
      bits >>>= taken;
      count -= taken;
      const symbol = entry & 0xfff;
      if (symbol < 256 && taken > 0) {
        out[filled] = symbol;
        filled += 1;
        continue;
      }
      if (symbol === 256 && taken > 0) {
        isOver = true;
        break;
      }
      while (count < 24) {
        bits |= (packed[next] as number) << count;
        next += 1;
        count += 8;
      }
      const extra = lengthExtra[symbol - 257] ?? 0;
      const length = (lengthBase[symbol - 257] ?? 0) + (bits & ((1 << extra) - 1));
      bits >>>= extra;
      count -= extra;
      while (count < 24) {
        bits |= (packed[next] as number) << count;
        next += 1;
        count += 8;
      }
      const far = distanceTable[bits & distanceMask] as number;
      const base = distanceBase[far & 0xfff] ?? Number.POSITIVE_INFINITY;
      bits >>>= far >> 12;
      count -= far >> 12;
      while (count < 24) {
        bits |= (packed[next] as number) << count;
        next += 1;
        count += 8;
      }
      const more = distanceExtra[far & 0xfff] ?? 0;
      const distance = base + (bits & ((1 << more) - 1));
      bits >>>= more;
      count -= more;
      if (taken === 0 || symbol - 257 >= lengthBase.length || far >> 12 === 0 || distance > filled) {
        next = atNext;
        bits = atBits;
        count = atCount;
        break;
      }
      for (let i = filled - distance, end = filled + length; filled < end; i += 1, filled += 1) out[filled] = out[i] as number;
    }
    this.at += next;
    this.#bits = bits;
    this.#count = count;
    this.#filled = filled;
    if (!isOver) return false;
    this.#codes = null;
    this.#blocks += 1;
    return true;
  }

  /** Makes room for so many bytes, keeping those that may be referred to. */
  #room(length: number): void {
    if (this.#filled + length <= this.#out.length) return;
    this.#flush();
    const keep = Math.min(this.dialect.window, this.#filled);
    this.#out.copyWithin(0, this.#filled - keep, this.#filled);
    this.#filled = keep;
    this.#taken = keep;
  }

  #flush(): void {
    if (this.#filled === this.#taken) return;
    const piece = this.#out.subarray(this.#taken, this.#filled);
    this.#plain += piece.length;
    unpacked.bytes += piece.length;
    this.#taken = this.#filled;
    this.#gave = true;
    this.take(piece);
    if (this.#plain > this.most) throw new TooMuch();
  }
}

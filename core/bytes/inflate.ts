import type { BlockReader } from "./block-reader";
import { PastEnd } from "./past-end";
import { unpacked } from "./unpacked";

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

/** RFC 1951, 3.2.5: lengths and distances, their first value and extra bits. */
const LENGTH_BASE = [3, 4, 5, 6, 7, 8, 9, 10, 11, 13, 15, 17, 19, 23, 27, 31, 35, 43, 51, 59, 67, 83, 99, 115, 131, 163, 195, 227, 258];
const LENGTH_EXTRA = [0, 0, 0, 0, 0, 0, 0, 0, 1, 1, 1, 1, 2, 2, 2, 2, 3, 3, 3, 3, 4, 4, 4, 4, 5, 5, 5, 5, 0];
const DISTANCE_BASE = [
  1, 2, 3, 4, 5, 7, 9, 13, 17, 25, 33, 49, 65, 97, 129, 193, 257, 385, 513, 769, 1025, 1537, 2049, 3073, 4097, 6145, 8193, 12_289, 16_385,
  24_577,
];
const DISTANCE_EXTRA = [0, 0, 0, 0, 1, 1, 2, 2, 3, 3, 4, 4, 5, 5, 6, 6, 7, 7, 8, 8, 9, 9, 10, 10, 11, 11, 12, 12, 13, 13];
/** 3.2.7: the order in which the lengths of the code length codes stand. */
const ORDER = [16, 17, 18, 0, 8, 7, 9, 6, 10, 5, 11, 4, 12, 3, 13, 2, 14, 1, 15];

/** A code of up to 15 bits, as a look-up by the next bits (first bit lowest): length << 12 | symbol; 0: no such code. */
interface Code {
  readonly table: Uint16Array;
  readonly bits: number;
}

/** @returns null when the lengths do not make a code (3.2.2); one with too few codes is taken where it has a single one. */
function codeOf(lengths: Uint8Array): Code | null {
  let bits = 0;
  let used = 0;
  const counts = new Uint16Array(16);
  for (const length of lengths) {
    counts[length] = (counts[length] as number) + 1;
    if (length > bits) bits = length;
    if (length > 0) used += 1;
  }
  if (bits === 0) return { table: new Uint16Array(1), bits: 0 };
  let left = 1;
  const next = new Uint16Array(16);
  let code = 0;
  for (let length = 1; length <= 15; length += 1) {
    left = (left << 1) - (counts[length] as number);
    if (left < 0) return null;
    next[length] = code;
    code = (code + (counts[length] as number)) << 1;
  }
  if (left > 0 && used > 1) return null;
  const table = new Uint16Array(1 << bits);
  for (let symbol = 0; symbol < lengths.length; symbol += 1) {
    const length = lengths[symbol] as number;
    if (length === 0) continue;
    let value = next[length] as number;
    next[length] = value + 1;
    let turned = 0;
    for (let i = 0; i < length; i += 1) {
      turned = (turned << 1) | (value & 1);
      value >>= 1;
    }
    for (let at = turned; at < 1 << bits; at += 1 << length) table[at] = (length << 12) | symbol;
  }
  return { table, bits };
}

const FIXED_LENGTHS = codeOf(Uint8Array.from({ length: 288 }, (_, i) => (i < 144 ? 8 : i < 256 ? 9 : i < 280 ? 7 : 8))) as Code;
/** The two last of the 32 codes stand for nothing (3.2.6): a distance of theirs is refused. */
const FIXED_DISTANCES = codeOf(new Uint8Array(32).fill(5)) as Code;

const OUT = 1 << 15;

/** A dialect of DEFLATE: what its last codes stand for, and how far back a distance may reach. */
interface Dialect {
  readonly lengthBase: readonly number[];
  readonly lengthExtra: readonly number[];
  readonly distanceBase: readonly number[];
  readonly distanceExtra: readonly number[];
  readonly window: number;
  readonly longest: number;
}
const PLAIN: Dialect = {
  lengthBase: LENGTH_BASE,
  lengthExtra: LENGTH_EXTRA,
  distanceBase: DISTANCE_BASE,
  distanceExtra: DISTANCE_EXTRA,
  window: 1 << 15,
  longest: 258,
};
/** ZIP's method 9 (APPNOTE, 4.4.5, gives the name alone; the codes are common practice, from memory): a longest length of 16 bits, a window of 64 KiB. */
const WIDE: Dialect = {
  lengthBase: [...LENGTH_BASE.slice(0, 28), 3],
  lengthExtra: [...LENGTH_EXTRA.slice(0, 28), 16],
  distanceBase: [...DISTANCE_BASE, 32_769, 49_153],
  distanceExtra: [...DISTANCE_EXTRA, 14, 14],
  window: 1 << 16,
  longest: 65_538,
};

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

/** Where unpacking is: what may be referred to, and the bits and codes in hand. */
interface InflateState {
  readonly window: Uint8Array;
  readonly numbers: readonly number[];
  readonly codes: { readonly lengths: Code; readonly distances: Code } | null;
  readonly last: boolean;
  /** Bytes at the end of the window that were not given yet. */
  readonly pending: number;
}

/** Plain bytes between places that are remembered. */
const REMEMBERED_EVERY = 1 << 24;

/**
 * The plain bytes of DEFLATE data (RFC 1951, or the wider dialect), read at any place without holding more than a window: places are
 * remembered on the way, so that going back costs little.
 */
export class InflatedBytes {
  #unpacking: Inflater;
  #pieceAt = 0;
  #piece = new Uint8Array(0);
  #more = true;
  readonly #remembered: { readonly at: number; readonly state: InflateState }[] = [];
  /** From this plain byte on the data are damaged, or there are none; null: nothing was met so far. */
  endsAt: number | null = null;

  constructor(
    private readonly reader: BlockReader,
    private readonly wide: boolean,
  ) {
    this.#unpacking = this.#fresh();
  }

  #fresh(): Inflater {
    const pieces = (piece: Uint8Array) => {
      this.#piece = piece.slice();
    };
    return new Inflater(this.reader, 0, this.reader.size, pieces, Number.POSITIVE_INFINITY, this.wide ? WIDE : PLAIN);
  }

  /** Fills `into` with the plain bytes from a place; what is not there comes as zeros. */
  read(at: number, into: Uint8Array): void {
    into.fill(0);
    if (at < this.#pieceAt) this.#back(at);
    for (let done = 0; done < into.length; ) {
      const inside = at + done - this.#pieceAt;
      if (inside < this.#piece.length) {
        const part = this.#piece.subarray(inside, inside + into.length - done);
        into.set(part, done);
        done += part.length;
      } else if (!this.#next()) return;
    }
  }

  /** Goes back to the last remembered place before one. */
  #back(at: number): void {
    const from = this.#remembered.findLast((each) => each.at <= at);
    this.#unpacking = this.#fresh();
    if (from) this.#unpacking.resume(from.state);
    this.#pieceAt = from?.at ?? 0;
    this.#piece = new Uint8Array(0);
    this.#more = true;
  }

  #next(): boolean {
    if (!this.#more) return false;
    this.#pieceAt += this.#piece.length;
    this.#piece = new Uint8Array(0);
    const last = this.#remembered.at(-1)?.at ?? 0;
    if (this.#pieceAt - last >= REMEMBERED_EVERY) this.#remembered.push({ at: this.#pieceAt, state: this.#unpacking.state() });
    try {
      this.#more = this.#unpacking.goOn();
    } catch (error) {
      if (!(error instanceof InflateError)) throw error;
      this.#more = false;
    }
    if (!this.#more) this.endsAt = this.#pieceAt + this.#piece.length;
    return this.#piece.length > 0;
  }
}

class Inflater {
  readonly #out: Uint8Array;
  #filled = 0;
  #taken = 0;
  #plain = 0;
  #bits = 0;
  #count = 0;
  #blockAt = 0;
  #blocks = 0;
  /** The present block is the last one; it has its codes, or so many stored bytes left. Neither: it is over. */
  #last = false;
  #codes: { readonly lengths: Code; readonly distances: Code } | null = null;
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
    this.#out = new Uint8Array(dialect.window + OUT + dialect.longest);
  }

  run(midst?: { skip: number; filler: number }): { end: number; plain: number } {
    if (midst) this.#begin(midst);
    while (this.goOn()) this.#gave = false;
    return { end: this.at - (this.#count >> 3), plain: this.#plain };
  }

  #begin({ skip, filler }: { skip: number; filler: number }): void {
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

  /** Where it is, to go on from there again; good only after it has given bytes. */
  state(): InflateState {
    const kept = Math.min(this.dialect.window, this.#filled);
    return {
      window: this.#out.slice(this.#filled - kept, this.#filled),
      numbers: [this.at, this.#bits, this.#count, this.#plain, this.#left, this.#blockAt, this.#blocks],
      codes: this.#codes,
      last: this.#last,
      pending: this.#filled - this.#taken,
    };
  }

  resume({ window, numbers, codes, last, pending }: InflateState): void {
    this.#out.set(window);
    this.#filled = window.length;
    this.#taken = window.length - pending;
    [this.at, this.#bits, this.#count, this.#plain, this.#left, this.#blockAt, this.#blocks] = numbers as [
      number,
      number,
      number,
      number,
      number,
      number,
      number,
    ];
    this.#codes = codes;
    this.#last = last;
  }

  #block(): void {
    this.#blockAt = 8 * this.at - this.#count;
    this.#last = this.#need(1) === 1;
    const kind = this.#need(2);
    if (kind === 0) this.#stored();
    else if (kind === 1) this.#codes = { lengths: FIXED_LENGTHS, distances: FIXED_DISTANCES };
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
    const [first, second] = [codeOf(all.subarray(0, lengths)), codeOf(all.subarray(lengths))];
    if (!first || !second || all[256] === 0) this.#fail("a damaged code table");
    this.#codes = { lengths: first as Code, distances: second as Code };
  }

  #coded(lengths: Code, distances: Code): void {
    const out = this.#out;
    const { lengthBase, lengthExtra, distanceBase, distanceExtra } = this.dialect;
    while (!this.#gave) {
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

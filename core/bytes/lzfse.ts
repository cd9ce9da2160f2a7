import { Cursor } from "./cursor";
import { LzLoops } from "./lz-loops";
import { Malformed } from "./malformed";

/**
 * LZFSE: blocks that are stored, coded by LZVN, or by matches and literals whose numbers are entropy-coded (finite-state entropy).
 * The layouts follow the published reference decoder (`lzfse_internal.h`, `lzfse_decode_base.c`, `lzfse_fse.h`, BSD licence), from memory.
 */
const MARK = { stored: 0x2d787662, plainHead: 0x31787662, packedHead: 0x32787662, lzvn: 0x6e787662, end: 0x24787662 } as const;

const STATES = { literalRun: 64, matchLength: 64, distance: 256, literal: 1024 } as const;
const MOST_MATCHES = 10_000;
const MOST_LITERALS = 4 * MOST_MATCHES;

const zeros = (count: number) => new Array<number>(count).fill(0);
const RUN_BITS = [...zeros(16), 2, 3, 5, 8];
const MATCH_BITS = [...zeros(16), 3, 5, 8, 11];
const DISTANCE_BITS = Array.from({ length: 64 }, (_, symbol) => symbol >> 2);

/** The smallest value of each symbol: those before it take 2^bits values each. */
function basesOf(bits: readonly number[]): number[] {
  let base = 0;
  return bits.map((count) => {
    const own = base;
    base += 2 ** count;
    return own;
  });
}
const [RUN_BASE, MATCH_BASE, DISTANCE_BASE] = [basesOf(RUN_BITS), basesOf(MATCH_BITS), basesOf(DISTANCE_BITS)];

interface Head {
  /** Bytes of the head itself. */
  readonly size: number;
  readonly literals: number;
  readonly matches: number;
  readonly literalBytes: number;
  readonly matchBytes: number;
  /** Bits of the last byte of each stream that are not used, negative. */
  readonly literalBits: number;
  readonly matchBits: number;
  readonly literalStates: readonly number[];
  readonly runState: number;
  readonly matchState: number;
  readonly distanceState: number;
  /** How often each symbol comes: of the literal runs (20), match lengths (20), distances (64), literals (256). */
  readonly frequencies: Uint16Array;
}

const SYMBOLS = { literalRun: 20, matchLength: 20, distance: 64, literal: 256 } as const;
const ALL_SYMBOLS = 360;

/** @returns `length` bytes; those after a damage stay zero */
export function decodeLzfse(coded: Uint8Array, length: number): { bytes: Uint8Array; sound: boolean } {
  const loops = LzLoops.with(coded, length);
  const place = { read: 0, written: 0 };
  let sound = false;
  try {
    while (place.written < length && !runNext(loops, coded, length, place));
    sound = place.written === length;
  } catch (error) {
    if (!(error instanceof Malformed || error instanceof RangeError)) throw error;
  }
  return { bytes: loops.result(place.written, length), sound };
}

/** Goes through one block. @returns whether it is the end mark. @throws Malformed where the coded bytes cannot be followed */
function runNext(loops: LzLoops, coded: Uint8Array, length: number, place: { read: number; written: number }): boolean {
  const cursor = new Cursor(coded);
  const { read, written } = place;
  if (read + 4 > coded.length) throw new Malformed("the coded bytes break off");
  const mark = cursor.u32(read);
  if (mark === MARK.end) return true;
  if (mark === MARK.stored) {
    const count = need(cursor, read, 8).u32(read + 4);
    const there = Math.min(count, length - written, coded.length - read - 8);
    loops.bytes.set(coded.subarray(read + 8, read + 8 + there), loops.plain + written);
    place.written += there;
    if (there < count && place.written < length) throw new Malformed("a stored block breaks off");
    place.read += 8 + count;
  } else if (mark === MARK.lzvn) {
    const payload = need(cursor, read, 12).u32(read + 8);
    const from = read + 12;
    const until = Math.min(length, written + cursor.u32(read + 4));
    place.written = loops.code.lzvn(from, Math.min(coded.length, from + payload), loops.plain, written, until) >>> 0;
    if (loops.code.damaged.value !== 0) throw new Malformed("a block of instructions cannot be followed");
    place.read = from + payload;
  } else if (mark === MARK.plainHead || mark === MARK.packedHead) {
    const head = mark === MARK.plainHead ? readPlainHead(cursor, read) : readPackedHead(cursor, read);
    place.written = runBlock(loops, coded.length, read, head, written, length);
    place.read += head.size + head.literalBytes + head.matchBytes;
  } else throw new Malformed("a block begins with no known mark", `at ${read}`);
  return false;
}

function need(cursor: Cursor, at: number, length: number): Cursor {
  if (at + length > cursor.size) throw new Malformed("a block's head breaks off");
  return cursor;
}

const PLAIN_HEAD = 772;

function readPlainHead(cursor: Cursor, at: number): Head {
  need(cursor, at, PLAIN_HEAD);
  const signed = (place: number) => cursor.u32(place) | 0;
  return {
    size: PLAIN_HEAD,
    literals: cursor.u32(at + 12),
    matches: cursor.u32(at + 16),
    literalBytes: cursor.u32(at + 20),
    matchBytes: cursor.u32(at + 24),
    literalBits: signed(at + 28),
    literalStates: [0, 1, 2, 3].map((index) => cursor.u16(at + 32 + index * 2)),
    matchBits: signed(at + 40),
    runState: cursor.u16(at + 44),
    matchState: cursor.u16(at + 46),
    distanceState: cursor.u16(at + 48),
    frequencies: Uint16Array.from({ length: ALL_SYMBOLS }, (_, index) => cursor.u16(at + 50 + index * 2)),
  };
}

const PACKED_FIXED = 32;

function readPackedHead(cursor: Cursor, at: number): Head {
  need(cursor, at, PACKED_FIXED);
  const word = (index: number) => {
    const place = at + 8 + index * 8;
    return BigInt(cursor.u32(place)) | (BigInt(cursor.u32(place + 4)) << 32n);
  };
  const [first, second, third] = [word(0), word(1), word(2)];
  const field = (from: bigint, shift: number, bits: number) => Number((from >> BigInt(shift)) & ((1n << BigInt(bits)) - 1n));
  const size = field(third, 0, 32);
  if (size < PACKED_FIXED) throw new Malformed("a block's head is too short");
  need(cursor, at, size);
  return {
    size,
    literals: field(first, 0, 20),
    literalBytes: field(first, 20, 20),
    matches: field(first, 40, 20),
    literalBits: field(first, 60, 3) - 7,
    literalStates: [0, 10, 20, 30].map((shift) => field(second, shift, 10)),
    matchBytes: field(second, 40, 20),
    matchBits: field(second, 60, 3) - 7,
    runState: field(third, 32, 10),
    matchState: field(third, 42, 10),
    distanceState: field(third, 52, 10),
    frequencies: readFrequencies(cursor.slice(at + PACKED_FIXED, size - PACKED_FIXED)),
  };
}

/** Widths and values of the short codes of frequencies, by their last five bits; those of 8 and 14 bits carry the number itself. */
const CODE_BITS = [2, 3, 2, 5, 2, 3, 2, 8, 2, 3, 2, 5, 2, 3, 2, 14];
const CODE_VALUES = [0, 2, 1, 4, 0, 3, 1, -1, 0, 2, 1, 5, 0, 3, 1, -1, 0, 2, 1, 6, 0, 3, 1, -1, 0, 2, 1, 7, 0, 3, 1, -1];

function readFrequencies(bytes: Uint8Array): Uint16Array {
  const found = new Uint16Array(ALL_SYMBOLS);
  if (bytes.length === 0) return found;
  let [bits, count, at] = [0, 0, 0];
  for (let index = 0; index < ALL_SYMBOLS; index += 1) {
    for (; count <= 16 && at < bytes.length; at += 1, count += 8) bits |= (bytes[at] as number) << count;
    const code = bits & 31;
    const width = CODE_BITS[code & 15] as number;
    if (width > count) throw new Malformed("the table of frequencies breaks off");
    found[index] = width === 8 ? 8 + ((bits >>> 4) & 15) : width === 14 ? 24 + ((bits >>> 4) & 0x3ff) : (CODE_VALUES[code] as number);
    bits >>>= width;
    count -= width;
  }
  return found;
}

/** Calls `add` for each state of a table in order: the symbol, bits to read, and what they are added to. */
function spread(states: number, frequencies: Uint16Array, add: (state: number, symbol: number, bits: number, delta: number) => void): void {
  let state = 0;
  frequencies.forEach((count, symbol) => {
    if (count === 0) return;
    if (state + count > states) throw new Malformed("the frequencies of a table are too many");
    const shift = Math.clz32(count) - Math.clz32(states);
    const wide = ((2 * states) >> shift) - count;
    for (let index = 0; index < count; index += 1, state += 1) {
      if (index < wide) add(state, symbol, shift, ((count + index) << shift) - states);
      else add(state, symbol, shift - 1, (index - wide) << (shift - 1));
    }
  });
}

/** Lays a table of values into the loops' memory: see `compiled/lz.ts`. */
function layOut(
  words: Uint32Array,
  at: number,
  states: number,
  frequencies: Uint16Array,
  extra: readonly number[],
  bases: readonly number[],
): void {
  words.fill(0, at / 4, at / 4 + states * 2);
  spread(states, frequencies, (state, symbol, bits, delta) => {
    const more = extra[symbol] as number;
    words[at / 4 + state * 2] = (bits + more) | (more << 8) | (delta << 16);
    words[at / 4 + state * 2 + 1] = bases[symbol] as number;
  });
}

/** Puts a block together behind what is written. @returns the place after it */
function runBlock({ code, plain, words }: LzLoops, size: number, blockAt: number, head: Head, at: number, until: number): number {
  const literalsAt = blockAt + head.size;
  const matchesAt = literalsAt + head.literalBytes;
  const end = matchesAt + head.matchBytes;
  if (head.literals > MOST_LITERALS || head.matches > MOST_MATCHES || end > size) throw new Malformed("a block's head cannot be");
  if (head.literalBits < -7 || head.literalBits > 0 || head.matchBits < -7 || head.matchBits > 0)
    throw new Malformed("a block's streams cannot be");
  let offset = 0;
  const next = (count: number) => {
    offset += count;
    return head.frequencies.subarray(offset - count, offset);
  };
  layOut(words, code.RUN_TABLE.value, STATES.literalRun, next(SYMBOLS.literalRun), RUN_BITS, RUN_BASE);
  layOut(words, code.MATCH_TABLE.value, STATES.matchLength, next(SYMBOLS.matchLength), MATCH_BITS, MATCH_BASE);
  layOut(words, code.DISTANCE_TABLE.value, STATES.distance, next(SYMBOLS.distance), DISTANCE_BITS, DISTANCE_BASE);
  const table = code.LITERAL_TABLE.value / 4;
  words.fill(0, table, table + STATES.literal);
  spread(STATES.literal, next(SYMBOLS.literal), (state, symbol, bits, delta) => {
    words[table + state] = bits | (symbol << 8) | (delta << 16);
  });
  const [a, b, c, d] = head.literalStates as [number, number, number, number];
  const { runState, matchState, distanceState } = head;
  if (
    Math.max(a, b, c, d) >= STATES.literal ||
    runState >= STATES.literalRun ||
    matchState >= STATES.matchLength ||
    distanceState >= STATES.distance
  )
    throw new Malformed("a block begins in no state");
  if (code.literals(literalsAt * 8, matchesAt * 8 + head.literalBits, head.literals, a, b, c, d) !== 0)
    throw new Malformed("a block's literals break off");
  const written = code.matches(
    matchesAt * 8,
    end * 8 + head.matchBits,
    head.matches,
    head.literals,
    plain,
    at,
    until,
    runState,
    matchState,
    distanceState,
  );
  if (written < 0) throw new Malformed("a block's matches cannot be followed");
  return written;
}

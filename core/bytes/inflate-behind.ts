import type { BlockReader } from "./block-reader";
import { canBeginBlock, InflateError, inflateFrom, inflaterFrom, TooMuch } from "./inflate";
import type { Range } from "./range-set";
import { decodeState, encodeState, type Unpacker } from "./unpacker";

/** What stands for a byte that cannot be known. */
export const UNKNOWN = 0x3f;

/** The bits, behind one, at which blocks of DEFLATE data may begin: most of them do not. @param most bytes that are looked through */
export function* blockCandidates(reader: BlockReader, from: number, most: number): Generator<number, void, void> {
  const first = Math.floor(from / 8);
  const bytes = reader.bytes(first, Math.max(0, Math.min(most, reader.size - first))).slice();
  for (let bit = from - 8 * first; bit < 8 * bytes.length - 80; bit += 1) if (canBeginBlock(bytes, bit)) yield 8 * first + bit;
}

/** Packed bytes behind damage in which the next block is looked for: several times as many as writers put into one. */
export const MOST_SEARCHED = 1 << 20;
/** Blocks, or plain bytes, that must come one after the other before a place is believed, where the data do not end before. */
const ENOUGH_BLOCKS = 2;
const ENOUGH_PLAIN = 1 << 18;

/** How often data may still be tried that perhaps begin somewhere: hostile ones seem to begin everywhere. */
export class Trials {
  #left = 20_000;

  /** @returns whether there is one left */
  take(): boolean {
    this.#left -= 1;
    return !this.isOver;
  }

  get isOver(): boolean {
    return this.#left < 0;
  }
}

/** The first bit from one on, and before a byte, at which blocks begin that make sense; null: there is none. */
export function nextBlock(reader: BlockReader, from: number, before: number, trials: Trials): number | null {
  for (const bit of blockCandidates(reader, from, before - Math.floor(from / 8))) {
    if (!trials.take()) return null;
    if (makesSense(reader, bit)) return bit;
  }
  return null;
}

function makesSense(reader: BlockReader, bit: number): boolean {
  try {
    // Behind the data of a member stand its checksum and length (RFC 1952, 2.3.1).
    return inflateFrom(reader, bit, reader.size, () => undefined, 0, ENOUGH_PLAIN).end + 8 <= reader.size;
  } catch (error) {
    if (error instanceof TooMuch) return true;
    if (error instanceof InflateError) return error.blocks >= ENOUGH_BLOCKS;
    throw error;
  }
}

/** Plain bytes that a distance reaches back at most (RFC 1951, 2). */
const WINDOW = 1 << 15;
/** Known bytes between unknown ones that count as unknown too. */
const LEAST_KNOWN = 512;

/**
 * Unpacks DEFLATE data from a block in their midst on. What stood before is not known: it is unpacked with two different stand-ins, and where
 * the two differ, that is referred to. Such bytes come as `UNKNOWN`.
 */
export class InflaterBehind implements Unpacker {
  readonly #one: ReturnType<typeof inflaterFrom>;
  /** Null: nothing unknown can be referred to any more. */
  #other: ReturnType<typeof inflaterFrom> | null;
  #first = new Uint8Array(0);
  #second = new Uint8Array(0);
  #plain = 0;
  #lastUnknown = 0;

  /** @param take gets the plain bytes and which of them are unknown, counted from the first that was given */
  constructor(
    reader: BlockReader,
    bit: number,
    private readonly take: (plain: Uint8Array, unknown: readonly Range[]) => void,
  ) {
    this.#one = inflaterFrom(reader, bit, 0x00, (piece) => {
      this.#first = Buffer.concat([this.#first, piece]);
    });
    this.#other = inflaterFrom(reader, bit, 0xff, (piece) => {
      this.#second = Buffer.concat([this.#second, piece]);
    });
  }

  get soundTo(): number {
    return this.#plain;
  }

  get packedEnd(): number {
    return this.#one.packedEnd;
  }

  goOn(): boolean {
    try {
      const more = this.#one.goOn();
      this.#other?.goOn();
      return more;
    } catch (error) {
      // Both read the same data: what the one gave before they made no sense, the other one gives too.
      if (error instanceof InflateError) this.#catchUp();
      throw error;
    } finally {
      this.#give();
    }
  }

  #catchUp(): void {
    try {
      while (this.#other && this.#second.length < this.#first.length) this.#other.goOn();
    } catch (error) {
      if (!(error instanceof InflateError)) throw error;
    }
  }

  #give(): void {
    const [plain, other] = [this.#first, this.#other ? this.#second : null];
    this.#first = new Uint8Array(0);
    this.#second = new Uint8Array(0);
    if (plain.length === 0) return;
    const unknown: { start: number; end: number }[] = [];
    for (let i = 0; other && i < plain.length; i += 1) {
      if (plain[i] === other[i]) continue;
      plain[i] = UNKNOWN;
      const at = this.#plain + i;
      const last = unknown.at(-1);
      if (last && at - last.end < LEAST_KNOWN) last.end = at + 1;
      else unknown.push({ start: at, end: at + 1 });
      this.#lastUnknown = at + 1;
    }
    this.#plain += plain.length;
    if (this.#plain - this.#lastUnknown > WINDOW) this.#other = null;
    this.take(plain, unknown);
  }

  state(): Uint8Array {
    const numbers = [this.#plain, this.#lastUnknown];
    return encodeState(numbers, this.#one.state(), ...(this.#other ? [this.#other.state()] : []));
  }

  resume(state: Uint8Array): void {
    const { numbers, parts } = decodeState(state);
    [this.#plain, this.#lastUnknown] = numbers as [number, number];
    this.#one.resume(parts[0] as Uint8Array);
    if (parts[1]) this.#other?.resume(parts[1]);
    else this.#other = null;
  }
}

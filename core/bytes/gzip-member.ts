import { crc32 } from "node:zlib";
import { BlockReader } from "./block-reader";
import type { ByteSource } from "./byte-source";
import { InflateError, inflater } from "./inflate";
import { InflaterBehind, MOST_SEARCHED, nextBlock, Trials } from "./inflate-behind";
import { type Break, isDamage, type Stream, type StreamEnd, type Take } from "./packed-stream";
import type { Range } from "./range-set";
import { decodeState, encodeState } from "./unpacker";

/** RFC 1952, 2.3.1: the fixed part of a member's header, its flags, and the checksum and length behind its data. */
const MEMBER = { size: 10, extra: 4, name: 8, comment: 16, headerCheck: 2, trailer: 8 } as const;
/** Plain bytes that damaged data may have given before they make no sense any more. */
const UNNOTICED = 1 << 15;

/** A member: its checksum stands behind its data. Damage inside of it shows before that, mostly. */
export class GzipMember implements Stream {
  #data: ReturnType<typeof inflater> | InflaterBehind;
  #crc = 0;
  #plain = 0;
  /** The bit at which the block begins in which the data made no sense; null: they have so far. */
  #brokenAt: number | null = null;
  /** False: damage lies anywhere before. */
  #isVouched = true;
  /** Plain bytes before the place where it went on behind damage, and the bit at which that was; null: it did not. */
  #behind: { readonly plain: number; readonly bit: number } | null = null;

  constructor(
    private readonly reader: BlockReader,
    at: number,
    private readonly take: Take,
    private readonly doubt: (range: Range) => void,
    private readonly breaks: readonly Break[],
    private readonly trials: Trials,
  ) {
    this.#data = inflater(reader, dataBehind(reader, at), reader.size, (plain) => this.#give(plain));
  }

  #give(given: Uint8Array): void {
    const plain = this.#break ? given.subarray(0, this.#break.plain - this.#plain) : given;
    this.#crc = crc32(plain, this.#crc);
    this.#plain += plain.length;
    this.take(plain);
  }

  /** The next block at which it is to begin anew. */
  get #break(): Break | null {
    return this.breaks.find(({ bit }) => bit > (this.#behind?.bit ?? -1)) ?? null;
  }

  get brokenAt(): number {
    return Math.floor((this.#brokenAt ?? 0) / 8);
  }

  get soundTo(): number {
    return Math.max(this.#behind?.plain ?? 0, this.#isVouched ? this.#plain - UNNOTICED : 0);
  }

  goOn(): boolean {
    const next = this.#break;
    if (next && this.#plain >= next.plain) {
      this.#brokenAt = next.bit - 1;
      this.#isVouched = false;
      throw new InflateError(Math.floor(next.bit / 8), this.#plain, "what was packed goes wrong before", next.bit);
    }
    try {
      if (this.#data.goOn()) return true;
    } catch (error) {
      if (error instanceof InflateError) this.#brokenAt = error.blockAt;
      throw error;
    }
    const { at, agrees } = this.end();
    if (agrees || at + MEMBER.size >= this.reader.size || isMember(this.reader, at)) return false;
    // Damaged data may seem to end anywhere.
    this.#brokenAt = 8 * this.#data.packedEnd;
    this.#isVouched = false;
    throw new InflateError(this.#data.packedEnd, this.#plain, "the data end where nothing else begins", this.#brokenAt);
  }

  end(): StreamEnd {
    const end = this.#data.packedEnd;
    const { reader } = this;
    // What was unpacked with bytes that are not known has no checksum.
    const isAsLong = this.#behind !== null || reader.u32(end + 4) === this.#plain % 2 ** 32;
    const agrees = this.#behind !== null || (isAsLong && reader.u32(end) === this.#crc);
    return { at: end + MEMBER.trailer, agrees, isAsLong, isCovered: this.#behind === null };
  }

  /** Goes to the next block that makes sense, unless another member begins before. */
  skip(): boolean {
    if (this.#brokenAt === null) return false;
    const from = Math.floor(this.#brokenAt / 8);
    const member = findMember(this.reader, from, Math.min(this.reader.size, from + MOST_SEARCHED), this.trials);
    const bit = nextBlock(this.reader, this.#brokenAt + 1, member ?? from + MOST_SEARCHED, this.trials);
    if (bit === null) return false;
    this.#goOnAt(this.#plain, bit);
    return true;
  }

  #goOnAt(plain: number, bit: number): void {
    this.#behind = { plain, bit };
    this.#brokenAt = null;
    this.#isVouched = true;
    this.#data = new InflaterBehind(this.reader, bit, (piece, unknown) => {
      for (const { start, end } of unknown) this.doubt({ start: plain + start, end: plain + end });
      this.#give(piece);
    });
  }

  state(): Uint8Array | null {
    const data = this.#data.state();
    return data && encodeState([this.#crc, this.#plain, this.#behind?.plain ?? -1, this.#behind?.bit ?? -1], data);
  }

  resume(state: Uint8Array): void {
    const { numbers, parts } = decodeState(state);
    const [crc, plain, before, bit] = numbers as [number, number, number, number];
    if (bit >= 0) this.#goOnAt(before, bit);
    [this.#crc, this.#plain] = [crc, plain];
    this.#data.resume(parts[0] as Uint8Array);
  }
}

/** Where the data of a GZIP member begin. */
export function dataBehind(reader: BlockReader, at: number): number {
  const flags = reader.u8(at + 3);
  let next = at + MEMBER.size;
  if (flags & MEMBER.extra) next += 2 + reader.u16(next);
  const skipText = () => {
    while (reader.u8(next) !== 0) next += 1;
    next += 1;
  };
  if (flags & MEMBER.name) skipText();
  if (flags & MEMBER.comment) skipText();
  return flags & MEMBER.headerCheck ? next + 2 : next;
}

/** Flags that are not defined must be zero (2.3.1.2). */
export const isMember = (reader: BlockReader, at: number): boolean =>
  at + 18 <= reader.size && reader.u16be(at) === 0x1f8b && reader.u8(at + 2) === 8 && (reader.u8(at + 3) & 0xe0) === 0;

/** Where a member next begins, at or behind a place. Three bytes and some bits stand anywhere by chance: the data behind must make sense for a while. */
export function findMember(reader: BlockReader, from: number, to: number, trials: Trials): number | null {
  for (let at = reader.find("\x1f\x8b\x08", from, to); at >= 0; at = reader.find("\x1f\x8b\x08", at + 1, to))
    if (isMember(reader, at) && (!trials.take() || unpacksFrom(reader.source, at))) return trials.isOver ? null : at;
  return null;
}

/** Plain bytes that must come of data that begin behind damage. */
const PLAUSIBLE = 1 << 14;

/** Whether a member at a place gives bytes for a while, or comes to its end with the right checksum. */
function unpacksFrom(source: ByteSource, at: number): boolean {
  let plain = 0;
  const take = (piece: Uint8Array) => {
    plain += piece.length;
  };
  const member = new GzipMember(new BlockReader(source), at, take, () => undefined, [], new Trials());
  try {
    while (member.goOn()) if (plain > PLAUSIBLE) return true;
    return member.end().agrees;
  } catch (error) {
    if (!isDamage(error)) throw error;
    return false;
  }
}

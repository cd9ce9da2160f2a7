import { crc32 } from "node:zlib";
import { BlockReader } from "./block-reader";
import { type ByteSource, MemorySource } from "./byte-source";
import { bzip2Unpacker } from "./bzip2";
import { InflateError, inflater, TooMuch } from "./inflate";
import { InflaterBehind, MOST_SEARCHED, nextBlock, Trials } from "./inflate-behind";
import { PastEnd } from "./past-end";
import { type Range, RangeSet } from "./range-set";
import { Restarts } from "./restarts";
import { StreamedBytes } from "./streamed-bytes";
import { findIndex, keepIndex, type UnpackIndex } from "./unpack-index";
import { decodeState, encodeState, type Unpacker } from "./unpacker";
import { XZ_MARK, XzUnpacker } from "./xz";

/** A compressed file unpacked, as far as it goes. */
export interface Unpacked {
  /** Its plain bytes follow from its packed ones alone: nothing that was found in them had a part in where it was begun anew. */
  readonly isPlain: boolean;
  /** Its seams stand where it goes on behind damage, its doubts where a checksum does not agree, or was not reached behind damage. */
  readonly content: ByteSource;
  /** What is to be known of it; empty: all of it was unpacked. */
  readonly notes: readonly string[];
}

export interface Limits {
  /** Plain bytes of one file that are kept in memory: what has more is unpacked again where it is read. */
  readonly mostInMemory: number;
  /** Plain bytes between places from which that goes on. */
  readonly every: number;
}
const LIMITS: Limits = { mostInMemory: 1 << 26, every: 1 << 24 };
/** Plain bytes of one file that are unpacked at most: so many, and so many times those it has. What holds more was made to fill disks. */
const MOST_UNPACKED = { any: 2 ** 28, times: 256 };
/** Places behind damage at which it goes on, at most. */
const MOST_SKIPS = 2_000;

const WRONG_CHECKSUM = "A checksum of this archive does not agree: files in it are damaged, and it does not show which.";
const BREAKS = "This archive is damaged or cut off: what comes behind that place is not read.";
const TRAILING = "Behind its end stands something else that is not read.";
const SKIPPED = (places: number) =>
  `This archive is damaged at ${places === 1 ? "one place" : `${places} places`}: what stood there is gone. Reading went on behind, where some files may begin that are not listed.`;
const TOO_LARGE = `This archive unpacks to more than ${MOST_UNPACKED.times} times its size, or is packed in a way that is not followed: what comes behind that is not read.`;

/** Where the plain bytes stop to make sense, by what they are; null: they do not, or it is not known what they are. */
export type BrokenAt = (content: ByteSource) => number | null;

/**
 * Unpacks a file compressed as a whole (gzip, RFC 1952; bzip2; xz); null: it is none of these. One that is large is gone through once, which
 * takes as long as unpacking it, and then read from places that were remembered on the way.
 * @param brokenAt is asked where a checksum does not agree: from there on the file is begun anew
 */
export function unpackWhole(
  source: ByteSource,
  brokenAt: BrokenAt | null = null,
  { mostInMemory, every }: Limits = LIMITS,
): Unpacked | null {
  const kind = kindOf(new BlockReader(source));
  if (!kind) return null;
  const maker =
    (breaks: readonly Break[]): Make =>
    (take) =>
      new WholeFile(new BlockReader(source), kind, take, breaks);
  const known = findIndex(source);
  const most = MOST_UNPACKED.any + MOST_UNPACKED.times * source.size;
  let { index, bytes } = known
    ? { index: known, bytes: null }
    : goThrough(maker([]), { most, mostInMemory, restarts: new Restarts(every), breaks: [] });
  // Packed data that were damaged mostly make sense all the same, and go wrong without a word.
  const plain = !known && kind === GZIP && index.disagrees && brokenAt ? brokenAt(sourceOf(maker([]), index, bytes)) : null;
  const found = plain === null ? null : findBreak(source, plain);
  if (found) ({ index, bytes } = goThrough(maker([found]), { most, mostInMemory, restarts: new Restarts(every), breaks: [found] }));
  if (!known) keepIndex(source, index, bytes === null);
  return { content: sourceOf(maker(index.breaks), index, bytes), notes: index.notes, isPlain: index.breaks.length === 0 };
}

type Make = (take: Take) => WholeFile;

function sourceOf(make: Make, { size, restarts, seams, doubts }: UnpackIndex, bytes: Uint8Array | null): ByteSource {
  const streamed = new StreamedBytes(make, restarts);
  const content: ByteSource = bytes ? new MemorySource(bytes) : { size, read: (at, into) => streamed.read(at, into), unreadable: () => [] };
  return Object.assign(content, { ...(seams.length > 0 && { seams }), ...(doubts.length > 0 && { doubts }) });
}

/** The first block of a GZIP file that begins at or behind a plain byte; null: none does. */
function findBreak(source: ByteSource, plain: number): Break | null {
  const reader = new BlockReader(source);
  const data = inflater(reader, dataBehind(reader, 0), reader.size, () => undefined);
  try {
    while (data.block.plain < plain) if (!data.goOn()) return null;
  } catch (error) {
    if (!isDamage(error)) throw error;
    return null;
  }
  return data.block;
}

interface Going {
  /** Plain bytes that are unpacked at most. */
  readonly most: number;
  readonly mostInMemory: number;
  readonly restarts: Restarts;
  readonly breaks: readonly Break[];
}

/** Unpacks all of a file. @returns what was learnt, and its bytes where they are few */
function goThrough(make: Make, { most, mostInMemory, restarts, breaks }: Going): { index: UnpackIndex; bytes: Uint8Array | null } {
  let pieces: Uint8Array[] | null = [];
  const notes: string[] = [];
  let size = 0;
  const file = make((piece) => {
    size += piece.length;
    if (size > mostInMemory) pieces = null;
    pieces?.push(piece.slice());
    if (size > most) throw new TooMuch();
  });
  try {
    while (file.goOn()) restarts.note(size, file);
  } catch (error) {
    if (error instanceof TooMuch) notes.push(TOO_LARGE);
    else if (isDamage(error)) notes.push(BREAKS);
    else throw error;
  }
  const { seams, doubts, disagrees } = file;
  if (file.hasTrailing) notes.push(TRAILING);
  if (seams.length > 0) notes.unshift(SKIPPED(seams.length));
  if (disagrees) notes.unshift(WRONG_CHECKSUM);
  const index = { size, notes, restarts, breaks, disagrees, seams, doubts: [...doubts.ranges] };
  return { index, bytes: pieces && Buffer.concat(pieces) };
}

const isDamage = (error: unknown): boolean => error instanceof InflateError || error instanceof PastEnd;

/** The first plain bytes of a file compressed as a whole, as many as wanted or there are; null: it is none. */
export function unpackHead(source: ByteSource, wanted: number): Uint8Array | null {
  const reader = new BlockReader(source);
  const kind = kindOf(reader);
  if (!kind) return null;
  const head = new Uint8Array(wanted);
  let filled = 0;
  const file = new WholeFile(
    reader,
    kind,
    (piece) => {
      head.set(piece.subarray(0, wanted - filled), filled);
      filled = Math.min(wanted, filled + piece.length);
    },
    [],
  );
  try {
    while (filled < wanted && file.goOn());
  } catch (error) {
    if (!(isDamage(error) || error instanceof TooMuch)) throw error;
  }
  return head.subarray(0, filled);
}

type Take = (plain: Uint8Array) => void;

interface StreamEnd {
  readonly at: number;
  readonly agrees: boolean;
  readonly isAsLong: boolean;
}

/** A stream of packed data, of which a file may hold several one after the other. */
interface Stream extends Unpacker {
  /** At its end: the byte behind it, whether its checksum agrees, and whether its length does. @throws PastEnd */
  end(): StreamEnd;
  /** The byte from which another stream is looked for where this one is damaged. */
  readonly brokenAt: number;
}

/** A way of compressing a whole file. */
interface WholeKind {
  /** Where a stream begins at or behind a place that is the file's beginning or the end of another stream; null: none does. */
  begins(reader: BlockReader, at: number): number | null;
  /** @param doubt learns of plain bytes of the stream that cannot be known */
  open(reader: BlockReader, at: number, take: Take, doubt: (range: Range) => void, breaks: readonly Break[], trials: Trials): Stream;
  /** Where a stream next begins behind damage, at or behind a place; null: none does. */
  search(reader: BlockReader, from: number, trials: Trials): number | null;
}

/** A block at which a stream is begun anew as if all before were damaged. */
type Break = UnpackIndex["breaks"][number];

/** Places in doubt that are told apart. */
const MOST_DOUBTS = 20_000;

/** All streams of a file, unpacked one after the other. */
class WholeFile implements Unpacker {
  #at = 0;
  #stream: Stream | null = null;
  #plain = 0;
  /** Plain bytes before the present stream. */
  #before = 0;
  /** Plain bytes behind which something is gone. */
  readonly seams: number[] = [];
  /** Plain bytes that no checksum vouches for though one should. */
  readonly doubts = new RangeSet();
  /** A checksum was reached and does not agree. */
  disagrees = false;
  /** Something that is no stream, and not zeros, stands behind the last one. */
  hasTrailing = false;
  readonly #trials = new Trials();
  #skips = 0;

  constructor(
    private readonly reader: BlockReader,
    private readonly kind: WholeKind,
    private readonly take: Take,
    private readonly breaks: readonly Break[],
  ) {}

  #open(at: number): Stream {
    const take = (plain: Uint8Array) => {
      this.#plain += plain.length;
      this.take(plain);
    };
    const doubt = ({ start, end }: Range) => this.#doubt(this.#before + start, this.#before + end);
    // They are found in a file's first stream alone.
    return this.kind.open(this.reader, at, take, doubt, this.#before === 0 ? this.breaks : [], this.#trials);
  }

  #doubt(start: number, end: number): void {
    const { ranges } = this.doubts;
    // Of very many places the last ones are told as one.
    this.doubts.add(ranges.length < MOST_DOUBTS ? start : Math.min(start, ranges.at(-1)?.end ?? start), end);
  }

  get soundTo(): number {
    return this.#before + (this.#stream?.soundTo ?? 0);
  }

  goOn(): boolean {
    if (!this.#stream) {
      const at = this.kind.begins(this.reader, this.#at);
      if (at === null) return false;
      this.#begin(at);
    }
    try {
      if (this.#stream?.goOn()) return true;
      this.#end();
    } catch (error) {
      if (!isDamage(error)) throw error;
      // What was given of a block before its checksum was compared is as doubtful as that.
      this.#doubt(this.soundTo, this.#plain);
      if (!this.#skip()) throw error;
      this.#addSeam();
    }
    return true;
  }

  #begin(at: number): void {
    this.#at = at;
    this.#before = this.#plain;
    this.#stream = this.#open(at);
  }

  #end(): void {
    const { at, agrees, isAsLong } = (this.#stream as Stream).end();
    if (!agrees) {
      this.disagrees = true;
      this.#doubt(this.#before, this.#plain);
    }
    this.#stream = null;
    if (!isAsLong && at < this.reader.size) this.#addSeam();
    this.#at = at;
    if (this.kind.begins(this.reader, at) !== null || isZero(this.reader, at)) return;
    // The beginning of another stream may be damaged, or something else was taken for the last one.
    const next = this.kind.search(this.reader, at, this.#trials);
    this.hasTrailing = next === null;
    if (next === null) this.#at = this.reader.size;
    else {
      this.#addSeam();
      this.#begin(next);
    }
  }

  #addSeam(): void {
    if (this.seams.at(-1) !== this.#plain) this.seams.push(this.#plain);
  }

  /** Goes on behind damage, in the same stream or with another one. */
  #skip(): boolean {
    this.#skips += 1;
    if (this.#skips > MOST_SKIPS) return false;
    if (this.#stream?.skip?.()) return true;
    const from = Math.max(this.#at + 1, this.#stream?.brokenAt ?? 0);
    const at = this.kind.search(this.reader, from, this.#trials);
    if (at !== null) this.#begin(at);
    return at !== null;
  }

  state(): Uint8Array | null {
    const own = this.#stream?.state();
    if (own === null) return null;
    return encodeState([this.#at, this.#plain, this.#before], ...(own ? [own] : []));
  }

  resume(state: Uint8Array): void {
    const { numbers, parts } = decodeState(state);
    [this.#at, this.#plain, this.#before] = numbers as [number, number, number];
    this.#stream = parts[0] ? this.#open(this.#at) : null;
    if (parts[0]) this.#stream?.resume(parts[0]);
  }
}

/** RFC 1952, 2.3.1: the fixed part of a member's header, its flags, and the checksum and length behind its data. */
const MEMBER = { size: 10, extra: 4, name: 8, comment: 16, headerCheck: 2, trailer: 8 } as const;
/** Plain bytes that damaged data may have given before they make no sense any more. */
const UNNOTICED = 1 << 15;

/** A member: its checksum stands behind its data. Damage inside of it shows before that, mostly. */
class GzipMember implements Stream {
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
    return { at: end + MEMBER.trailer, agrees, isAsLong };
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
function dataBehind(reader: BlockReader, at: number): number {
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

/** A stream that compares its checksums itself, and is given up where one does not agree. */
const checked = (stream: Unpacker & { readonly packedEnd: number }): Stream => ({
  goOn: () => stream.goOn(),
  get soundTo() {
    return stream.soundTo;
  },
  get brokenAt() {
    return stream.packedEnd;
  },
  state: () => stream.state(),
  resume: (state) => stream.resume(state),
  skip: () => stream.skip?.() ?? false,
  end: () => ({ at: stream.packedEnd, agrees: true, isAsLong: true }),
});

/** Bytes behind the last stream that are looked at: tapes and disks fill up with zeros. */
const MOST_TRAILING = 1 << 20;
const isZero = (reader: BlockReader, from: number): boolean => {
  for (const { bytes } of reader.blocks(from, from + MOST_TRAILING)) if (bytes.some((byte) => byte !== 0)) return false;
  return true;
};

/** Flags that are not defined must be zero (2.3.1.2). */
const isMember = (reader: BlockReader, at: number): boolean =>
  at + 18 <= reader.size && reader.u16be(at) === 0x1f8b && reader.u8(at + 2) === 8 && (reader.u8(at + 3) & 0xe0) === 0;

/** Where a member next begins, at or behind a place. Three bytes and some bits stand anywhere by chance: the data behind must make sense for a while. */
function findMember(reader: BlockReader, from: number, to: number, trials: Trials): number | null {
  for (let at = reader.find("\x1f\x8b\x08", from, to); at >= 0; at = reader.find("\x1f\x8b\x08", at + 1, to))
    if (isMember(reader, at) && (!trials.take() || unpacksFrom(reader.source, at))) return trials.isOver ? null : at;
  return null;
}

const GZIP: WholeKind = {
  begins: (reader, at) => (isMember(reader, at) ? at : null),
  open: (reader, at, take, doubt, breaks, trials) => new GzipMember(reader, at, take, doubt, breaks, trials),
  search: (reader, from, trials) => findMember(reader, from, reader.size, trials),
};
const BZIP2: WholeKind = {
  begins: (reader, at) => (reader.has(at, "BZh") ? at : null),
  open: (reader, at, take) => checked(bzip2Unpacker(reader, at, take)),
  // The first block of a stream begins at a byte, four behind the stream; further ones are found at any bit (`skip`).
  search: (reader, from) => {
    const at = reader.find("1AY&SY", from + 4);
    return at < 0 ? null : at - 4;
  },
};
const XZ: WholeKind = {
  begins(reader, at) {
    // Zeros, four at a time, may stand between streams (.xz format 1.1.0, 2.2).
    let next = at;
    while (at > 0 && next + 4 <= reader.size && reader.u32(next) === 0) next += 4;
    return reader.has(next, XZ_MARK) ? next : null;
  },
  open: (reader, at, take) => checked(new XzUnpacker(reader, at, take)),
  search: (reader, from) => {
    const at = reader.find(XZ_MARK, from);
    return at < 0 ? null : at;
  },
};

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

function kindOf(reader: BlockReader): WholeKind | null {
  if (reader.size < 14) return null;
  return [GZIP, BZIP2, XZ].find(({ begins }) => begins(reader, 0) !== null) ?? null;
}

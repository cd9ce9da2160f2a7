import { BlockReader } from "./block-reader";
import { type ByteSource, MemorySource } from "./byte-source";
import { dataBehind } from "./gzip-member";
import { inflater, TooMuch } from "./inflate";
import { Trials } from "./inflate-behind";
import { type Break, isDamage, type Stream, type Take } from "./packed-stream";
import { type Range, RangeSet } from "./range-set";
import { Restarts } from "./restarts";
import { StreamedBytes } from "./streamed-bytes";
import { findIndex, keepIndex, type UnpackIndex } from "./unpack-index";
import { decodeState, encodeState, type Unpacker } from "./unpacker";
import { GZIP, kindOf, type WholeKind } from "./whole-kinds";

/** A compressed file unpacked, as far as it goes. */
export interface Unpacked {
  /** Its plain bytes follow from its packed ones alone: nothing that was found in them had a part in where it was begun anew. */
  readonly isPlain: boolean;
  /** Its seams stand where it goes on behind damage, its doubts where a checksum does not agree, or was not reached behind damage. */
  readonly content: ByteSource;
  /** All of it was unpacked; something else may stand behind its end. */
  readonly isComplete: boolean;
  /** Checksums that are known here cover all of it. */
  readonly isCovered: boolean;
  /** What is to be known of it; empty: all of it was unpacked. */
  readonly notes: readonly string[];
}

export interface Limits {
  /** Plain bytes of one file that are kept in memory: what has more is unpacked again where it is read. */
  readonly mostInMemory: number;
  /** Plain bytes between places from which that goes on; not given: as the way of compressing has it. */
  readonly every?: number;
}
const LIMITS: Limits = { mostInMemory: 1 << 26 };
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
  { mostInMemory, every: wished }: Limits = LIMITS,
): Unpacked | null {
  const kind = kindOf(new BlockReader(source));
  if (!kind) return null;
  const every = wished ?? kind.every;
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
  return {
    content: sourceOf(maker(index.breaks), index, bytes),
    notes: index.notes,
    isComplete: index.isComplete,
    isCovered: index.isCovered,
    isPlain: index.breaks.length === 0,
  };
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
  const { seams, doubts, disagrees, isCovered } = file;
  const isComplete = notes.length === 0 && seams.length === 0;
  if (file.hasTrailing) notes.push(TRAILING);
  if (seams.length > 0) notes.unshift(SKIPPED(seams.length));
  if (disagrees) notes.unshift(WRONG_CHECKSUM);
  const index = { size, notes, restarts, breaks, disagrees, isCovered, isComplete, seams, doubts: [...doubts.ranges] };
  return { index, bytes: pieces && Buffer.concat(pieces) };
}

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

/** Places in doubt that are distinguished. */
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
  /** Checksums that are known here cover all streams that were gone through. */
  isCovered = true;
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
    // Of very many places the last ones count as one.
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
    const { at, agrees, isAsLong, isCovered } = (this.#stream as Stream).end();
    this.isCovered &&= isCovered;
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

/** Bytes behind the last stream that are looked at: tapes and disks fill up with zeros. */
const MOST_TRAILING = 1 << 20;
const isZero = (reader: BlockReader, from: number): boolean => {
  for (const { bytes } of reader.blocks(from, from + MOST_TRAILING)) if (bytes.some((byte) => byte !== 0)) return false;
  return true;
};

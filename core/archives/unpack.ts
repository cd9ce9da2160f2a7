import { crc32 } from "node:zlib";
import { BlockReader } from "../bytes/block-reader";
import { type ByteSource, MemorySource } from "../bytes/byte-source";
import { bzip2Unpacker } from "../bytes/bzip2";
import { InflateError, inflater, TooMuch } from "../bytes/inflate";
import { PastEnd } from "../bytes/past-end";
import { RangeSet } from "../bytes/range-set";
import { Restarts } from "../bytes/restarts";
import { StreamedBytes } from "../bytes/streamed-bytes";
import { decodeState, encodeState, type Unpacker } from "../bytes/unpacker";
import { XZ_MARK, XzUnpacker } from "../bytes/xz";
import { findIndex, keepIndex, type UnpackIndex } from "./unpack-index";

/** A compressed file unpacked, as far as it goes. */
export interface Unpacked {
  /** Its seams stand where it goes on behind damage, its doubts where a checksum does not agree, or was not reached behind damage. */
  readonly content: ByteSource;
  /** What is to be known of it; empty: all of it was unpacked. */
  readonly notes: readonly string[];
}

interface Limits {
  /** Plain bytes of one file that are kept in memory: what has more is unpacked again where it is read. */
  readonly mostInMemory: number;
  /** Plain bytes between places from which that goes on. */
  readonly every: number;
}
const LIMITS: Limits = { mostInMemory: 1 << 26, every: 1 << 24 };
/** Plain bytes of one file that are unpacked at most. */
const MOST_UNPACKED = 2 ** 40;

const WRONG_CHECKSUM = "A checksum of this archive does not agree: files in it are damaged, and it does not show which.";
const BREAKS = "This archive is damaged or cut off: what comes behind that place is gone.";
const SKIPPED = (places: number) =>
  `This archive is damaged at ${places === 1 ? "one place" : `${places} places`}: what stood there is gone, what comes behind was found again.`;
const TOO_LARGE = `This archive unpacks to more than ${MOST_UNPACKED / 2 ** 30} GiB, or is packed in a way that is not followed: what comes behind that is not read.`;

/**
 * Unpacks a file compressed as a whole (gzip, RFC 1952; bzip2; xz); null: it is none of these. One that is large is gone through once, which
 * takes as long as unpacking it, and then read from places that were remembered on the way.
 */
export function unpackWhole(source: ByteSource, { mostInMemory, every }: Limits = LIMITS): Unpacked | null {
  const kind = kindOf(new BlockReader(source));
  if (!kind) return null;
  const make = (take: Take) => new WholeFile(new BlockReader(source), kind, take);
  const known = findIndex(source);
  const { index, bytes } = known ? { index: known, bytes: null } : goThrough(make, mostInMemory, new Restarts(every));
  if (!known && !bytes) keepIndex(source, index);
  const { size, notes, restarts, seams, doubts } = index;
  const streamed = new StreamedBytes(make, restarts);
  const content: ByteSource = bytes ? new MemorySource(bytes) : { size, read: (at, into) => streamed.read(at, into), unreadable: () => [] };
  return { content: Object.assign(content, { ...(seams.length > 0 && { seams }), ...(doubts.length > 0 && { doubts }) }), notes };
}

/** Unpacks all of a file. @returns what was learnt, and its bytes where they are few */
function goThrough(
  make: (take: Take) => WholeFile,
  mostInMemory: number,
  restarts: Restarts,
): { index: UnpackIndex; bytes: Uint8Array | null } {
  let pieces: Uint8Array[] | null = [];
  const notes: string[] = [];
  let size = 0;
  const file = make((piece) => {
    size += piece.length;
    if (size > mostInMemory) pieces = null;
    pieces?.push(piece.slice());
    if (size > MOST_UNPACKED) throw new TooMuch();
  });
  try {
    while (file.goOn()) restarts.note(size, file);
  } catch (error) {
    if (error instanceof TooMuch) notes.push(TOO_LARGE);
    else if (isDamage(error)) notes.push(BREAKS);
    else throw error;
  }
  const { seams, doubts, disagrees } = file;
  if (seams.length > 0) notes.unshift(SKIPPED(seams.length));
  if (disagrees) notes.unshift(WRONG_CHECKSUM);
  return { index: { size, notes, restarts, seams, doubts: [...doubts.ranges] }, bytes: pieces && Buffer.concat(pieces) };
}

const isDamage = (error: unknown): boolean => error instanceof InflateError || error instanceof PastEnd;

/** The first plain bytes of a file compressed as a whole, as many as wanted or there are; null: it is none. */
export function unpackHead(source: ByteSource, wanted: number): Uint8Array | null {
  const reader = new BlockReader(source);
  const kind = kindOf(reader);
  if (!kind) return null;
  const head = new Uint8Array(wanted);
  let filled = 0;
  const file = new WholeFile(reader, kind, (piece) => {
    head.set(piece.subarray(0, wanted - filled), filled);
    filled = Math.min(wanted, filled + piece.length);
  });
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
}

/** A way of compressing a whole file. */
interface WholeKind {
  /** Where a stream begins at or behind a place that is the file's beginning or the end of another stream; null: none does. */
  begins(reader: BlockReader, at: number): number | null;
  open(reader: BlockReader, at: number, take: Take): Stream;
  /** Where a stream next begins behind damage, at or behind a place; null: none does. */
  search(reader: BlockReader, from: number): number | null;
}

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

  constructor(
    private readonly reader: BlockReader,
    private readonly kind: WholeKind,
    private readonly take: Take,
  ) {}

  #open(at: number): Stream {
    return this.kind.open(this.reader, at, (plain) => {
      this.#plain += plain.length;
      this.take(plain);
    });
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
      this.doubts.add(this.soundTo, this.#plain);
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
      this.doubts.add(this.#before, this.#plain);
    }
    this.#stream = null;
    // Damaged data may seem to end anywhere: then the next stream is looked for from where they began.
    const next = agrees || this.kind.begins(this.reader, at) !== null ? at : this.kind.search(this.reader, this.#at + 1);
    if ((next !== at || !isAsLong) && at < this.reader.size) this.#addSeam();
    this.#at = next ?? this.reader.size;
  }

  #addSeam(): void {
    if (this.seams.at(-1) !== this.#plain) this.seams.push(this.#plain);
  }

  /** Goes on behind damage, in the same stream or with another one. */
  #skip(): boolean {
    if (this.#stream?.skip?.()) return true;
    const at = this.kind.search(this.reader, this.#at + 1);
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

/** A member: its checksum stands behind its data. Damage inside of it shows before that. */
class GzipMember implements Stream {
  readonly #data: ReturnType<typeof inflater>;
  #crc = 0;
  #plain = 0;

  constructor(
    private readonly reader: BlockReader,
    at: number,
    take: Take,
  ) {
    this.#data = inflater(reader, dataBehind(reader, at), reader.size, (plain) => {
      this.#crc = crc32(plain, this.#crc);
      this.#plain += plain.length;
      take(plain);
    });
  }

  get soundTo(): number {
    return Math.max(0, this.#plain - UNNOTICED);
  }

  goOn(): boolean {
    return this.#data.goOn();
  }

  end(): StreamEnd {
    const end = this.#data.packedEnd;
    const { reader } = this;
    const isAsLong = reader.u32(end + 4) === this.#plain % 2 ** 32;
    return { at: end + MEMBER.trailer, agrees: isAsLong && reader.u32(end) === this.#crc, isAsLong };
  }

  state(): Uint8Array | null {
    const data = this.#data.state();
    return data && encodeState([this.#crc, this.#plain], data);
  }

  resume(state: Uint8Array): void {
    const { numbers, parts } = decodeState(state);
    [this.#crc, this.#plain] = numbers as [number, number];
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
  state: () => stream.state(),
  resume: (state) => stream.resume(state),
  skip: () => stream.skip?.() ?? false,
  end: () => ({ at: stream.packedEnd, agrees: true, isAsLong: true }),
});

/** Finds a text of which `begins` says that a stream begins there. */
function searched(text: string, begins: WholeKind["begins"]): WholeKind["search"] {
  return (reader, from) => {
    for (let at = reader.find(text, from); at >= 0; at = reader.find(text, at + 1)) if (begins(reader, at) === at) return at;
    return null;
  };
}

/** Flags that are not defined must be zero (2.3.1.2). */
const isMember = (reader: BlockReader, at: number): boolean =>
  at + 18 <= reader.size && reader.u16be(at) === 0x1f8b && reader.u8(at + 2) === 8 && (reader.u8(at + 3) & 0xe0) === 0;
const GZIP: WholeKind = {
  begins: (reader, at) => (isMember(reader, at) ? at : null),
  open: (reader, at, take) => new GzipMember(reader, at, take),
  // Three bytes and some bits stand anywhere by chance: the data behind must make sense for a while.
  search: searched("\x1f\x8b\x08", (reader, at) => (isMember(reader, at) && unpacksFrom(reader.source, at) ? at : null)),
};
const BZIP2: WholeKind = {
  begins: (reader, at) => (reader.has(at, "BZh") ? at : null),
  open: (reader, at, take) => checked(bzip2Unpacker(reader, at, take)),
  // Its blocks are found wherever they stand (`skip`).
  search: () => null,
};
const XZ: WholeKind = {
  begins(reader, at) {
    // Zeros, four at a time, may stand between streams (.xz format 1.1.0, 2.2).
    let next = at;
    while (at > 0 && next + 4 <= reader.size && reader.u32(next) === 0) next += 4;
    return reader.has(next, XZ_MARK) ? next : null;
  },
  open: (reader, at, take) => checked(new XzUnpacker(reader, at, take)),
  search: searched(XZ_MARK, (reader, at) => (reader.has(at, XZ_MARK) ? at : null)),
};

/** Plain bytes that must come of data that begin behind damage. */
const PLAUSIBLE = 1 << 14;

/** Whether a member at a place gives bytes for a while, or comes to its end with the right checksum. */
function unpacksFrom(source: ByteSource, at: number): boolean {
  let plain = 0;
  const member = new GzipMember(new BlockReader(source), at, (piece) => {
    plain += piece.length;
  });
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

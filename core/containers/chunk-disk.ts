import { type ByteSource, readBytes } from "../bytes/byte-source";
import { CODECS, type Coding } from "../bytes/codecs";
import { type Range, RangeSet } from "../bytes/range-set";
import { lastNotAfter } from "../bytes/starts";

/** A stretch of a disk as a chunk of a file gives it. */
export interface Chunk {
  /** Bytes of the disk. */
  readonly start: number;
  readonly length: number;
  /** How its bytes are kept: as they are, as nothing but zeros, as never stored, coded, or in a way that is not known. */
  readonly kind: "raw" | "zeros" | "unstored" | "unknown" | Coding;
  /** Where the kept bytes stand in the file, and how many there are. */
  readonly at: number;
  readonly kept: number;
}

/** A larger coded chunk is damage or an attack on memory. Plain bytes. */
const MOST_PLAIN = 64 << 20;
/** Plain bytes of decoded chunks that are kept. */
const MOST_KEPT = 32 << 20;

const XZ_CHECKED: ReadonlySet<number> = new Set([1, 4]);

/** A disk kept in chunks, some of which are compressed. */
export class ChunkDisk implements ByteSource {
  readonly #starts: Float64Array;
  readonly #decoded = new Map<number, Uint8Array>();
  #kept = 0;
  /** What cannot be read: chunks that are not there, worked out once, and what turns out damaged or refused as it is read. */
  #bad: RangeSet | undefined;
  readonly doubts: Range[] = [];

  /** @param chunks in the order of the disk, apart from one another */
  constructor(
    private readonly file: ByteSource,
    private readonly chunks: readonly Chunk[],
    readonly size: number,
  ) {
    this.#starts = Float64Array.from(chunks, ({ start }) => start);
  }

  read(at: number, into: Uint8Array): void {
    into.fill(0);
    this.#each(at, into.length, (chunk, index, inside, length, done) => {
      const part = into.subarray(done, done + length);
      if (chunk.kind === "raw") {
        this.file.read(chunk.at + inside, part);
        this.#noteRefused(chunk, inside, length);
      } else if (isCoded(chunk)) part.set(this.#plain(chunk, index).subarray(inside, inside + length));
    });
  }

  /** Stretches no chunk gives, chunks that lie outside the file, and those that turned out damaged when they were read. */
  unreadable(at: number, length: number): Range[] {
    return this.#badOnes().within(at, at + length);
  }

  #badOnes(): RangeSet {
    if (this.#bad) return this.#bad;
    const bad = new RangeSet();
    let covered = 0;
    for (const chunk of this.chunks) {
      const { start, length, kind, at } = chunk;
      bad.add(covered, start);
      covered = start + length;
      if (kind === "unknown" || (isCoded(chunk) && !this.#isThere(chunk))) bad.add(start, covered);
      else if (kind === "raw") bad.add(start + Math.max(0, Math.min(length, this.file.size - at)), covered);
    }
    bad.add(covered, this.size);
    this.#bad = bad;
    for (const chunk of this.chunks) if (chunk.kind === "raw") this.#noteRefused(chunk, 0, chunk.length);
    return bad;
  }

  /** Notes what of a chunk that is kept as it is the file refuses to give. */
  #noteRefused({ at, start }: Chunk, inside: number, length: number): void {
    const there = Math.max(0, Math.min(length, this.file.size - at - inside));
    for (const range of there > 0 ? this.file.unreadable(at + inside, there) : [])
      this.#badOnes().add(range.start - at + start, range.end - at + start);
  }

  /** Notes that a checksum over a chunk does not match, and whether the chunk itself has one that would. */
  doubt(chunk: Chunk): void {
    if (!this.#isVouched(chunk)) this.doubts.push({ start: chunk.start, end: chunk.start + chunk.length });
  }

  /** Whether damage in the bytes of a chunk shows as it is decoded. */
  #isVouched({ kind, at, kept }: Chunk): boolean {
    if (kind === "zeros" || kind === "unstored" || kind === "zlib" || kind === "bzip2") return true;
    // The kind of check stands in the stream's header (the .xz file format 1.1.0, 2.1.1.2); those that are compared here are CRC-32 and CRC-64.
    return kind === "xz" && kept > 8 && XZ_CHECKED.has((readBytes(this.file, at + 7, 1)[0] as number) & 15);
  }

  /** Stretches that were never stored: they come as zeros. */
  holes(at: number, length: number): Range[] {
    const found = new RangeSet();
    this.#each(at, length, (chunk, _index, _inside, part, done) => {
      if (chunk.kind === "unstored") found.add(at + done, at + done + part);
    });
    return [...found.ranges];
  }

  #isThere({ at, kept, length }: Chunk): boolean {
    return length <= MOST_PLAIN && at >= 0 && at + kept <= this.file.size && this.file.unreadable(at, kept).length === 0;
  }

  #plain(chunk: Chunk & { kind: Coding }, index: number): Uint8Array {
    const known = this.#decoded.get(index);
    if (known) return known;
    let bytes = new Uint8Array(Math.min(chunk.length, MOST_PLAIN));
    if (this.#isThere(chunk)) {
      const found = CODECS[chunk.kind].decode(readBytes(this.file, chunk.at, chunk.kept), chunk.length);
      if (!found.sound) this.#badOnes().add(chunk.start, chunk.start + chunk.length);
      bytes = found.bytes as typeof bytes;
    }
    if (this.#kept + bytes.length > MOST_KEPT) {
      this.#decoded.clear();
      this.#kept = 0;
    }
    this.#decoded.set(index, bytes);
    this.#kept += bytes.length;
    return bytes;
  }

  #each(at: number, length: number, visit: (chunk: Chunk, index: number, inside: number, length: number, done: number) => void): void {
    const end = Math.min(this.size, at + length);
    if (at < 0 || at >= end) return;
    for (let index = Math.max(0, lastNotAfter(this.#starts, at)); index < this.chunks.length; index += 1) {
      const chunk = this.chunks[index] as Chunk;
      if (chunk.start >= end) return;
      const from = Math.max(at, chunk.start);
      const to = Math.min(end, chunk.start + chunk.length);
      if (from < to) visit(chunk, index, from - chunk.start, to - from, from - at);
    }
  }
}

const isCoded = (chunk: Chunk): chunk is Chunk & { kind: Coding } =>
  chunk.kind !== "raw" && chunk.kind !== "zeros" && chunk.kind !== "unstored" && chunk.kind !== "unknown";

/** Chunks in the order of the disk; of those that lie over one another the first one counts. */
export function inOrder(chunks: readonly Chunk[]): Chunk[] {
  const kept: Chunk[] = [];
  let end = 0;
  for (const chunk of [...chunks].sort((a, b) => a.start - b.start)) {
    if (chunk.length <= 0 || chunk.start < end) continue;
    kept.push(chunk);
    end = chunk.start + chunk.length;
  }
  return kept;
}

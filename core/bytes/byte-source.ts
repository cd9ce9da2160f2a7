import { type Range, RangeSet } from "./range-set";

/**
 * Read-only bytes: a disk image, a volume, the content of one file. Reading is synchronous, because file-system
 * code is thousands of small dependent reads and runs where blocking is fine (a worker thread, the command line).
 * There is no way to write through this interface.
 */
export interface ByteSource {
  /** Length in bytes. */
  readonly size: number;
  /** Fills all of `into` with the bytes from `at`. Bytes past the end, or that cannot be read, come as zero. */
  read(at: number, into: Uint8Array): void;
  /** The ranges inside [at, at + length) now known to be unreadable, in this source's offsets. */
  unreadable(at: number, length: number): Range[];
  /** The ranges inside [at, at + length) that were never stored, or are lost without a trace: they read as zeros. Not given: none. */
  readonly holes?: ((at: number, length: number) => Range[]) | undefined;
  /**
   * Where, behind the first, each further piece begins whose bytes do not follow the last ones by themselves: a medium, or what stands behind
   * bytes that are gone. Not given: there is one piece.
   */
  readonly seams?: readonly number[] | undefined;
  /** Stretches that a checksum speaks against, or should speak for and does not. Not given: none. */
  readonly doubts?: readonly Range[] | undefined;
  /** What is the same only for the same bytes at the same place, at another time and in another process too. Not given: it is not known. */
  readonly identity?: string | undefined;
}

/** Reads `length` bytes into a new array. The caller bounds `length`. */
export function readBytes(source: ByteSource, at: number, length: number): Uint8Array {
  const into = new Uint8Array(length);
  source.read(at, into);
  return into;
}

/** Bytes already in memory. */
export class MemorySource implements ByteSource {
  readonly size: number;
  readonly #bytes: Uint8Array;
  readonly #unreadable: RangeSet;

  constructor(bytes: Uint8Array, unreadable: Iterable<Range> = []) {
    this.#bytes = bytes;
    this.size = bytes.length;
    this.#unreadable = RangeSet.from(unreadable);
  }

  read(at: number, into: Uint8Array): void {
    into.fill(0);
    if (at < 0 || at >= this.size) return;
    into.set(this.#bytes.subarray(at, Math.min(this.size, at + into.length)));
    for (const range of this.#unreadable.within(at, at + into.length)) into.fill(0, range.start - at, range.end - at);
  }

  unreadable(at: number, length: number): Range[] {
    return this.#unreadable.within(at, at + length);
  }
}

/** A stretch of another source, seen as a source of its own. Reading past its end gives zeros, never the neighbour. */
export class WindowSource implements ByteSource {
  readonly size: number;
  readonly holes?: ByteSource["holes"];

  constructor(
    private readonly parent: ByteSource,
    private readonly start: number,
    size: number,
  ) {
    this.size = Math.max(0, size);
    const { holes } = parent;
    if (!holes) return;
    this.holes = (at, length) => {
      const end = Math.min(at + length, this.size);
      const found = holes.call(parent, start + at, Math.max(0, end - at));
      return found.map((range) => ({ start: range.start - start, end: range.end - start }));
    };
  }

  get identity(): string | undefined {
    const { identity } = this.parent;
    return identity === undefined ? undefined : `${identity} ${this.start}+${this.size}`;
  }

  read(at: number, into: Uint8Array): void {
    const usable = Math.max(0, Math.min(into.length, this.size - at));
    if (at < 0 || usable < into.length) into.fill(0);
    if (at >= 0 && usable > 0) this.parent.read(this.start + at, into.subarray(0, usable));
  }

  unreadable(at: number, length: number): Range[] {
    const end = Math.min(at + length, this.size);
    return this.parent
      .unreadable(this.start + at, Math.max(0, end - at))
      .map((range) => ({ start: range.start - this.start, end: range.end - this.start }));
  }
}

/**
 * Keeps recently read blocks, so that parsers may read a few bytes at a time. Reads of a block or more go
 * straight through: they are sequential readings that would only push the useful blocks out.
 */
export class CachedSource implements ByteSource {
  readonly size: number;
  readonly holes?: ByteSource["holes"];
  readonly seams?: readonly number[];
  readonly doubts?: readonly Range[];
  readonly #blocks = new Map<number, Uint8Array>();

  constructor(
    private readonly parent: ByteSource,
    private readonly blockSize = 65_536,
    private readonly maxBlocks = 256,
  ) {
    this.size = parent.size;
    if (parent.holes) this.holes = parent.holes.bind(parent);
    if (parent.seams) this.seams = parent.seams;
    if (parent.doubts) this.doubts = parent.doubts;
  }

  get identity(): string | undefined {
    return this.parent.identity;
  }

  read(at: number, into: Uint8Array): void {
    if (at < 0 || into.length >= this.blockSize) {
      this.parent.read(at, into);
      return;
    }
    let done = 0;
    while (done < into.length) {
      const position = at + done;
      const index = Math.floor(position / this.blockSize);
      const inside = position - index * this.blockSize;
      const part = Math.min(this.blockSize - inside, into.length - done);
      if (position >= this.size) {
        into.fill(0, done);
        return;
      }
      into.set(this.#block(index).subarray(inside, inside + part), done);
      done += part;
    }
  }

  unreadable(at: number, length: number): Range[] {
    return this.parent.unreadable(at, length);
  }

  #block(index: number): Uint8Array {
    const kept = this.#blocks.get(index);
    if (kept) {
      // Re-inserting moves the block to the young end of the map's insertion order.
      this.#blocks.delete(index);
      this.#blocks.set(index, kept);
      return kept;
    }
    const oldest = this.#blocks.size >= this.maxBlocks ? this.#blocks.keys().next().value : undefined;
    let block: Uint8Array | undefined;
    if (oldest !== undefined) {
      block = this.#blocks.get(oldest);
      this.#blocks.delete(oldest);
    }
    block ??= new Uint8Array(this.blockSize);
    this.parent.read(index * this.blockSize, block);
    this.#blocks.set(index, block);
    return block;
  }
}

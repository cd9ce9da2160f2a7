import { type ByteSource, readBytes } from "../bytes/byte-source";
import { Cursor } from "../bytes/cursor";
import type { Range } from "../bytes/range-set";

/** Where a block of the disk stands. */
export type BlockPlace =
  /** In the parent, where there is one; else it reads as zeros. */
  | "elsewhere"
  /** Zeros, whatever the parent has. */
  | "zeros"
  /** In a part of the file that is not there, or where it cannot be: the file was cut short, or its table is damaged. It reads as zeros and counts as unreadable. */
  | "missing"
  /** In the file at `at`. With `own` only those of its sectors for which it says so; the others stand in the parent. */
  | { readonly at: number; readonly own?: (sector: number) => boolean };

interface Blocks {
  /** Bytes of the disk. */
  readonly size: number;
  readonly blockSize: number;
  readonly sectorSize: number;
  place(block: number): BlockPlace;
}

/** The place in the file of what should be in it and is not. */
const MISSING = -1;
/** Stretches up to so many bytes are asked about block by block. */
const WALKED_AT_ONCE = 1 << 30;

/** A disk kept in blocks, some of which have no place in the file; a differencing one takes those from its parent. */
export class BlockDisk implements ByteSource {
  readonly size: number;
  #complete: boolean | undefined;

  constructor(
    private readonly file: ByteSource,
    private readonly blocks: Blocks,
    private readonly parent: ByteSource | null,
    readonly doubts: readonly Range[] = [],
  ) {
    this.size = blocks.size;
  }

  read(at: number, into: Uint8Array): void {
    into.fill(0);
    this.#each(at, into.length, (from, fileAt, length) => {
      const part = into.subarray(from - at, from - at + length);
      if (fileAt === MISSING) return;
      if (fileAt !== null) this.file.read(fileAt, part);
      else this.parent?.read(from, part);
    });
  }

  unreadable(at: number, length: number): Range[] {
    const found: Range[] = [];
    // Going through the table of a huge disk takes a while: it is done once, and again only where something is missing.
    if (length > WALKED_AT_ONCE && this.#nothingMissing() && !this.parent?.unreadable(at, length).length) return found;
    this.#each(at, length, (from, fileAt, count) => {
      if (fileAt === null) found.push(...(this.parent?.unreadable(from, count) ?? []));
      else {
        const there = fileAt === MISSING ? 0 : Math.max(0, Math.min(count, this.file.size - fileAt));
        for (const range of there > 0 ? this.file.unreadable(fileAt, there) : [])
          found.push({ start: range.start + from - fileAt, end: range.end + from - fileAt });
        if (there < count) found.push({ start: from + there, end: from + count });
      }
    });
    return found;
  }

  /** Whether the file holds all blocks its table names, and none of it is unreadable. */
  #nothingMissing(): boolean {
    if (this.#complete === undefined) {
      this.#complete = true;
      this.#each(0, this.size, (_, fileAt, count) => {
        if (fileAt !== null && (fileAt === MISSING || fileAt + count > this.file.size)) this.#complete = false;
      });
    }
    return this.#complete && this.file.unreadable(0, this.file.size).length === 0;
  }

  /** Calls `visit` for each stretch with its place in the file (or `MISSING`); null: in the parent, or nowhere. */
  #each(at: number, length: number, visit: (from: number, fileAt: number | null, length: number) => void): void {
    const { blockSize } = this.blocks;
    const end = Math.min(this.size, at + length);
    for (let from = Math.max(0, at); from < end; ) {
      const block = Math.floor(from / blockSize);
      const inside = from - block * blockSize;
      const count = Math.min(blockSize - inside, end - from);
      const place = this.blocks.place(block);
      if (place === "elsewhere") visit(from, null, count);
      else if (place === "missing") visit(from, MISSING, count);
      else if (place !== "zeros") this.#eachSector(place, inside, count, (within, here, part) => visit(from + within - inside, here, part));
      from += count;
    }
  }

  /** Sectors that stand in the same place are reported together. */
  #eachSector(
    { at, own }: Exclude<BlockPlace, string>,
    inside: number,
    count: number,
    visit: (within: number, fileAt: number | null, length: number) => void,
  ): void {
    if (!own) {
      visit(inside, at + inside, count);
      return;
    }
    const { sectorSize } = this.blocks;
    for (let within = inside; within < inside + count; ) {
      const sector = Math.floor(within / sectorSize);
      const here = own(sector);
      let next = sector + 1;
      while (next * sectorSize < inside + count && own(next) === here) next += 1;
      const length = Math.min(next * sectorSize, inside + count) - within;
      visit(within, here ? at + within : null, length);
      within += length;
    }
  }
}

const ENTRIES_READ = 8192;

/** A table of entries in a file, read in parts, so that one of a huge disk costs nothing until it is asked. */
export class EntryTable {
  #part: { first: number; view: Cursor } | undefined;

  /** @param width bytes in an entry */
  constructor(
    private readonly file: ByteSource,
    private readonly at: number,
    private readonly width: number,
  ) {}

  /** The bytes around an entry, and where it begins in them. */
  entry(index: number): { view: Cursor; at: number } {
    const first = Math.floor(index / ENTRIES_READ) * ENTRIES_READ;
    if (this.#part?.first !== first)
      this.#part = { first, view: new Cursor(readBytes(this.file, this.at + first * this.width, ENTRIES_READ * this.width)) };
    return { view: this.#part.view, at: (index - first) * this.width };
  }
}

/** Keeps what was made for some of the many, the youngest last. */
export function kept<T>(most: number, make: (key: number) => T): (key: number) => T {
  const made = new Map<number, T>();
  return (key) => {
    let value = made.get(key);
    if (value === undefined) {
      if (made.size >= most) made.clear();
      value = make(key);
      made.set(key, value);
    }
    return value;
  };
}

import type { ByteSource } from "../../bytes/byte-source";
import { readBytes } from "../../bytes/byte-source";
import { isPageSize, pageSizeOf } from "../../formats/sqlite/page";
import type { Journal } from "./journal";
import type { Log, PageImage } from "./log";
import type { Encoding } from "./record";

/** The file of a database in which something stands. */
export type Part = "main" | "log" | "journal";

/** A page's bytes, and where they stand. */
export interface Page {
  readonly number: number;
  readonly bytes: Buffer;
  /** Where its header begins: 100 on the first page. */
  readonly header: number;
  readonly from: Part;
  /** The offset of its first byte in that file. */
  readonly at: number;
}

export interface DatabaseFiles {
  readonly main: ByteSource;
  readonly log?: ByteSource | null;
  readonly journal?: ByteSource | null;
}

export interface Header {
  readonly pageSize: number;
  /** Bytes at the end of each page that are not SQLite's. */
  readonly reserved: number;
  readonly encoding: Encoding;
  readonly firstFree: number;
  /** Pages that are free. */
  readonly free: number;
  readonly autoVacuum: boolean;
  readonly pages: number;
  /** How often what it is made of was changed. */
  readonly schemaChanges: number;
}

const MARK = "SQLite format 3\0";
const ENCODINGS: Readonly<Record<number, Encoding>> = { 1: "utf8", 2: "utf16le", 3: "utf16be" };

/** Reads the header of page 1 (SQLite file format 1.3). @returns null when it is none */
export function readHeader(page: Uint8Array, size: number): Header | null {
  if (page.length < 100) return null;
  for (let i = 0; i < MARK.length; i += 1) if (page[i] !== MARK.charCodeAt(i)) return null;
  const view = new DataView(page.buffer, page.byteOffset, page.length);
  const pageSize = pageSizeOf(view.getUint16(16));
  if (!isPageSize(pageSize)) return null;
  const reserved = page[20] as number;
  const stated = view.getUint32(28);
  const counted = Math.floor(size / pageSize);
  return {
    pageSize,
    reserved: pageSize - reserved < 480 ? 0 : reserved,
    encoding: ENCODINGS[view.getUint32(56)] ?? "utf8",
    firstFree: view.getUint32(32),
    free: view.getUint32(36),
    schemaChanges: view.getUint32(40),
    autoVacuum: view.getUint32(52) !== 0,
    // The number in the header counts only when it was written together with the change counter (1.3.7).
    pages: stated > 0 && view.getUint32(24) === view.getUint32(92) ? stated : counted,
  };
}

/** Bytes of a page that was cut off in the middle from which something is read. */
const SHORTEST = 16;
/** Bytes of pages that are kept. */
const KEPT_BYTES = 32 << 20;

/** The pages of a database as they count now: the log's committed ones before the main file's, and a hot journal's before those. */
export class Pages {
  readonly #kept = new Map<number, Page>();
  readonly #log = new Map<number, number>();
  readonly #journal = new Map<number, number>();
  readonly #most: number;
  #frames: Map<number, PageImage[]> | null = null;
  #saved: Map<number, number> | null = null;

  constructor(
    private readonly files: DatabaseFiles,
    readonly pageSize: number,
    private readonly log: Log | null,
    private readonly journal: Journal | null,
  ) {
    if (log) for (const { page, at, state } of log.frames) if (state === "committed") this.#log.set(page, at);
    // The first image of a page is what it was before the transaction.
    if (journal?.hot) for (const { page, at } of journal.images) if (!this.#journal.has(page)) this.#journal.set(page, at);
    this.#most = Math.max(64, Math.floor(KEPT_BYTES / pageSize));
  }

  /** Where a page's bytes that count stand. */
  placeOf(number: number): { from: Part; at: number } {
    const journal = this.#journal.get(number);
    if (journal !== undefined) return { from: "journal", at: journal };
    const log = this.#log.get(number);
    if (log !== undefined) return { from: "log", at: log };
    return { from: "main", at: (number - 1) * this.pageSize };
  }

  /**
   * Where a page stood when another was written that does not count any more: in the log the last image of its transaction or of one before it, in
   * the journal the one that was saved with it, else in the main file.
   */
  placeBeside(number: number, { from, at }: Page): { from: Part; at: number } {
    if (from === "main" && this.#journal.size > 0) return this.placeOf(number);
    let found: number | undefined;
    if (from === "journal") found = this.#savedAt(number);
    if (from === "log") {
      const own = this.#frameAt(at);
      found = own && lastUpTo(this.#framesOf(number, own.state === "earlier"), own.transaction)?.at;
    }
    return found === undefined ? { from: "main", at: (number - 1) * this.pageSize } : { from, at: found };
  }

  /** Where the journal has what a page was before its transaction. */
  #savedAt(number: number): number | undefined {
    if (!this.#saved) {
      this.#saved = new Map();
      for (const { page, at } of this.journal?.images ?? []) if (!this.#saved.has(page)) this.#saved.set(page, at);
    }
    return this.#saved.get(number);
  }

  /** The images of a page in the log, in its order. @param isEarlier those of earlier rounds, or the others */
  #framesOf(number: number, isEarlier: boolean): readonly PageImage[] {
    const keyOf = (page: number, earlier: boolean) => page * 2 + (earlier ? 1 : 0);
    if (!this.#frames) {
      this.#frames = new Map();
      for (const frame of this.log?.frames ?? []) {
        const key = keyOf(frame.page, frame.state === "earlier");
        const own = this.#frames.get(key);
        if (own) own.push(frame);
        else this.#frames.set(key, [frame]);
      }
    }
    return this.#frames.get(keyOf(number, isEarlier)) ?? [];
  }

  /** The image whose bytes begin at a place of the log. */
  #frameAt(at: number): PageImage | undefined {
    const frames = this.log?.frames ?? [];
    let [low, high] = [0, frames.length];
    while (low < high) {
      const middle = (low + high) >> 1;
      if ((frames[middle] as PageImage).at < at) low = middle + 1;
      else high = middle;
    }
    return frames[low]?.at === at ? frames[low] : undefined;
  }

  /** The page as it counts; null: it lies behind the end of its file. */
  get(number: number): Page | null {
    const kept = this.#kept.get(number);
    if (kept) return kept;
    const { from, at } = this.placeOf(number);
    const page = this.read(number, from, at);
    if (!page) return null;
    if (this.#kept.size >= this.#most) this.#kept.delete(this.#kept.keys().next().value as number);
    this.#kept.set(number, page);
    return page;
  }

  /** A page's bytes from any place. */
  read(number: number, from: Part, at: number): Page | null {
    const source = this.files[from];
    // Of a page that is cut off in the middle the rest reads as zeros.
    if (!source || number < 1 || at + SHORTEST > source.size) return null;
    const bytes = readBytes(source, at, this.pageSize);
    return {
      number,
      bytes: Buffer.from(bytes.buffer, bytes.byteOffset, bytes.length),
      header: number === 1 ? 100 : 0,
      from,
      at,
    };
  }
}

/** The last image of a transaction up to one. @param frames in the order of the file, which is that of their transactions */
function lastUpTo(frames: readonly PageImage[], transaction: number): PageImage | undefined {
  let [low, high] = [0, frames.length];
  while (low < high) {
    const middle = (low + high) >> 1;
    if ((frames[middle] as PageImage).transaction <= transaction) low = middle + 1;
    else high = middle;
  }
  return frames[low - 1];
}

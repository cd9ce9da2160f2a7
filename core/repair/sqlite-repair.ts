import type { BlockReader } from "../bytes/block-reader";
import { LayoutSource, layoutOf, type Segment } from "../bytes/layout";
import { formatById, runCheck } from "../formats/registry";
import { findPageSize, isPageSize, pageSizeOf } from "../formats/sqlite/page";
import { BytesOut } from "./bytes-out";
import { kept, made, type Repaired } from "./repaired";

const MOST_ROUNDS = 256;

/**
 * A database that opens again: a header that is gone is written anew, and pages that make no sense are taken out of their tables and
 * given to the list of free pages, so that the rows of all others can be read.
 */
export function repairDatabase(reader: BlockReader): Repaired | null {
  const done: string[] = [];
  const pageSize = headerIsRight(reader) ? pageSizeOf(reader.u16be(16)) : findPageSize(reader);
  if (pageSize === 0) return null;
  const pages = Math.floor(reader.size / pageSize);
  const book = new Pages(reader, pageSize, pages);
  if (!headerIsRight(reader)) {
    book.set(1, firstPage(reader, pageSize, pages));
    done.push(`The header was written anew, with pages of ${pageSize} bytes.`);
  } else if (reader.u32be(28) !== pages || reader.u32be(24) !== reader.u32be(92)) {
    book.set(1, pageCounted(book.get(1), pages));
    done.push(`The header now tells the ${pages} pages there are.`);
  }
  const taken = takeOut(book);
  if (taken > 0)
    done.push(
      `${taken} damaged page${taken === 1 ? " was" : "s were"} taken out; the rows on the others are as they were. Indexes may still name rows that are gone.`,
    );
  return done.length > 0 ? { segments: book.segments(), done } : null;
}

/** Takes damaged pages out one after the other until the rest holds together. @returns how many */
function takeOut(book: Pages): number {
  const format = formatById.get("sqlite");
  const free: number[] = [];
  let taken = 0;
  for (let round = 0; format && round < MOST_ROUNDS; round += 1) {
    const verdict = runCheck(format, new LayoutSource(book.source, layoutOf(book.segments(), book.pages * book.pageSize)));
    if (verdict.verdict !== "damaged") break;
    const page = Math.floor(verdict.at / book.pageSize) + 1;
    if (page < 1 || page > book.pages) break;
    if (verdict.reason.includes("list of free pages")) {
      // What was free is found again as pages that nothing leads to.
      if (free.length > 0) break;
      book.set(1, withFreePages(book.get(1), 0, 0));
      continue;
    }
    if (free.includes(page)) break;
    if (!verdict.reason.includes("nothing in the database")) {
      if (page === 1 || !book.cutOff(page)) break;
      taken += 1;
    }
    free.push(page);
    book.freeAll(free);
  }
  return taken;
}

/** The pages of a database as they are to be, those that are changed kept in memory. */
class Pages {
  readonly #changed = new Map<number, Segment>();

  constructor(
    private readonly reader: BlockReader,
    readonly pageSize: number,
    readonly pages: number,
  ) {}

  get source() {
    return this.reader.source;
  }

  get(page: number): Uint8Array {
    const changed = this.#changed.get(page);
    return changed?.kind === "held" ? changed.bytes.slice() : this.reader.bytes((page - 1) * this.pageSize, this.pageSize).slice();
  }

  set(page: number, bytes: Uint8Array): void {
    this.#changed.set(page, made(bytes));
  }

  segments(): Segment[] {
    return Array.from({ length: this.pages }, (_, i) => this.#changed.get(i + 1) ?? kept(i * this.pageSize, this.pageSize));
  }

  /** Takes a page out of the tree it belongs to. False: nothing leads to it, or nothing would be left. */
  cutOff(page: number): boolean {
    for (let parent = 1; parent <= this.pages; parent += 1) {
      if (parent === page) continue;
      const bytes = withoutChild(this.get(parent), parent === 1 ? 100 : 0, page);
      if (bytes === "not there") continue;
      if (bytes === "the last") return this.cutOff(parent);
      this.set(parent, bytes);
      return true;
    }
    // The root of a table: an empty one stands there from now on.
    const kind = this.reader.u8((page - 1) * this.pageSize);
    this.set(page, emptyPage(kind, this.pageSize));
    return true;
  }

  /** Makes these the free pages (1.5): the first ones lists of the others. */
  freeAll(free: readonly number[]): void {
    const room = this.pageSize / 4 - 8;
    let next = 0;
    for (let at = Math.floor((free.length - 1) / (room + 1)) * (room + 1); at >= 0; at -= room + 1) {
      const [trunk, ...leaves] = free.slice(at, at + room + 1) as [number, ...number[]];
      const list = new BytesOut().u32be(next).u32be(leaves.length);
      for (const leaf of leaves) list.u32be(leaf);
      const bytes = new Uint8Array(this.pageSize);
      bytes.set(list.done());
      this.set(trunk, bytes);
      next = trunk;
    }
    this.set(1, withFreePages(this.get(1), next, free.length));
  }
}

/** An inner page without the cell that leads to a child (1.6): its other cells put together anew. */
function withoutChild(page: Uint8Array, header: number, child: number): Uint8Array | "not there" | "the last" {
  const kind = page[header];
  if (kind !== 2 && kind !== 5) return "not there";
  const view = new DataView(page.buffer, page.byteOffset, page.length);
  const cells = view.getUint16(header + 3);
  if (header + 12 + cells * 2 > page.length) return "not there";
  const pointers = Array.from({ length: cells }, (_, i) => view.getUint16(header + 12 + i * 2));
  if (pointers.some((at) => at + 5 > page.length)) return "not there";
  const index = pointers.findIndex((at) => view.getUint32(at) === child);
  const last = view.getUint32(header + 8) === child;
  if (index < 0 && !last) return "not there";
  if (cells <= 1) return "the last";
  const gone = last ? cells - 1 : index;
  // With the last child gone, the one before it takes its place.
  const right = last ? view.getUint32(pointers[gone] as number) : view.getUint32(header + 8);
  const kept = pointers.filter((_, i) => i !== gone).map((at) => page.slice(at, at + cellLength(page, at, kind)));
  const rebuilt = new Uint8Array(page.length);
  rebuilt.set(page.subarray(0, header));
  const places: number[] = [];
  let at = page.length;
  for (const cell of kept) {
    at -= cell.length;
    if (at < header + 12 + kept.length * 2) return "not there";
    rebuilt.set(cell, at);
    places.push(at);
  }
  const head = new BytesOut()
    .u8(kind)
    .u16be(0)
    .u16be(kept.length)
    .u16be(at & 0xffff)
    .u8(0)
    .u32be(right);
  for (const place of places) head.u16be(place);
  rebuilt.set(head.done(), header);
  return rebuilt;
}

/** Bytes of an inner cell: a child, and the row's number or (in an index) the payload as far as it stands on the page. */
function cellLength(page: Uint8Array, at: number, kind: number): number {
  let next = at + 4;
  let value = 0;
  for (let i = 0; i < 9; i += 1) {
    const byte = page[next] ?? 0;
    value = value * 128 + (byte & 127);
    next += 1;
    if (byte < 128) break;
  }
  if (kind === 5) return next - at;
  const usable = page.length;
  const most = Math.floor(((usable - 12) * 64) / 255) - 23;
  const least = Math.floor(((usable - 12) * 32) / 255) - 23;
  const spilled = least + ((value - least) % (usable - 4));
  const here = value <= most ? value : (spilled <= most ? spilled : least) + 4;
  return next - at + here;
}

const headerIsRight = (reader: BlockReader) => reader.has(0, "SQLite format 3\0") && isPageSize(pageSizeOf(reader.u16be(16)));

/** Page 1 with a header of the usual values (file format, 1.3): the rest of the page is as it was. */
function firstPage(reader: BlockReader, pageSize: number, pages: number): Uint8Array {
  const page = reader.bytes(0, pageSize).slice();
  const header = new BytesOut()
    .text("SQLite format 3\0")
    .u16be(pageSize === 65_536 ? 1 : pageSize)
    .u8(1)
    .u8(1)
    .u8(0)
    .u8(64)
    .u8(32)
    .u8(32)
    .u32be(1)
    .u32be(pages)
    .u32be(0)
    .u32be(0)
    .u32be(1)
    .u32be(4)
    .u32be(0)
    .u32be(0)
    .u32be(1)
    .done();
  page.fill(0, 0, 100);
  page.set(header);
  page.set(new BytesOut().u32be(1).u32be(3_040_001).done(), 92);
  return page;
}

function pageCounted(page: Uint8Array, pages: number): Uint8Array {
  page.set(new BytesOut().u32be(pages).done(), 28);
  page.set(page.slice(24, 28), 92);
  return page;
}

function withFreePages(page: Uint8Array, first: number, count: number): Uint8Array {
  page.set(new BytesOut().u32be(first).u32be(count).done(), 32);
  return page;
}

/** A page without rows: of an index when what stands there says so, else of a table. */
function emptyPage(kind: number, pageSize: number): Uint8Array {
  const page = new Uint8Array(pageSize);
  page.set(
    new BytesOut()
      .u8(kind === 2 || kind === 10 ? 10 : 13)
      .u16be(0)
      .u16be(0)
      .u16be(pageSize & 0xffff)
      .u8(0)
      .done(),
  );
  return page;
}

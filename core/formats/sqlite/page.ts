import { BlockReader } from "../../bytes/block-reader";
import { MemorySource } from "../../bytes/byte-source";
import { PastEnd } from "../../bytes/past-end";

/** Pages of an SQLite database: file format, 1.5 to 1.6 and 2.1. */
export const PAGE = { interiorIndex: 2, interiorTable: 5, leafIndex: 10, leafTable: 13 } as const;
export const PAGE_KINDS: ReadonlySet<number> = new Set(Object.values(PAGE));

export const pageSizeOf = (raw: number) => (raw === 1 ? 65_536 : raw);
export const isPageSize = (size: number) => size >= 512 && size <= 65_536 && (size & (size - 1)) === 0;

/** What takes up the room on a page: its cells and the free blocks between them (1.6); the rest is reported as fragments. */
class PageRoom {
  readonly #taken: [from: number, to: number][] = [];

  constructor(
    private readonly reader: BlockReader,
    private readonly start: number,
    private readonly header: number,
    private readonly usable: number,
  ) {}

  take(from: number, length: number): boolean {
    this.#taken.push([from, from + length]);
    return from + length <= this.usable;
  }

  /** Whether cells, free blocks and fragments make up all between the pointers and the page's end. */
  isFull(pointersEnd: number): boolean {
    const content = this.reader.u16be(this.header + 5) || 65_536;
    if (content < pointersEnd || content > this.usable) return false;
    for (let block = this.reader.u16be(this.header + 1), before = 0; block !== 0; ) {
      if (block <= before || block + 4 > this.usable) return false;
      const length = this.reader.u16be(this.start + block + 2);
      if (!this.take(block, length)) return false;
      before = block;
      block = this.reader.u16be(this.start + block);
    }
    this.#taken.sort(([a], [b]) => a - b);
    let at = content;
    let fragments = 0;
    for (const [from, to] of this.#taken) {
      if (from < at) return false;
      fragments += from - at;
      at = to;
    }
    return fragments + this.usable - at === this.reader.u8(this.header + 7);
  }
}

/** Whether the fields of a record are as long as the record is (2.1); of one that spills over, only its head is looked at. */
function isRecord(reader: BlockReader, at: number, here: number, size: number): boolean {
  const header = varint(reader, at);
  if (header.value > here || header.value < 1) return size > here;
  let body = 0;
  let next = header.next;
  while (next < at + header.value) {
    const type = varint(reader, next);
    if (type.value === 10 || type.value === 11) return false;
    body += type.value >= 12 ? Math.floor((type.value - 12) / 2) : ([0, 1, 2, 3, 4, 6, 8, 8, 0, 0][type.value] as number);
    next = type.next;
  }
  return next === at + header.value && header.value + body === size;
}

/** A row, or an entry of an index, that has more bytes than stay on its page. */
export interface Spilling {
  /** The page on which it goes on. */
  readonly page: number;
  /** Its bytes beyond this page. */
  readonly left: number;
}

/** What stands on a page of a tree. */
export interface TreePage {
  /** The pages below it in the order of their keys, and up to which row number each goes (tables alone; the last one without end). */
  readonly below: readonly { readonly page: number; readonly most: number }[];
  readonly spilling: readonly Spilling[];
  /** Where the bytes of each row or entry are that are on the page. Offsets of the reader. */
  readonly cells: readonly { readonly at: number; readonly length: number }[];
  /** The lowest and the highest row number on a page of a table. */
  readonly least: number;
  readonly most: number;
}

/**
 * Reads a page of a tree, and checks it: its rows are in their order, have the fields they say, and make up the room.
 * @param start offset of the page @param header offset of its header, which on page 1 stands behind that of the database
 * @param usable bytes of the page that are in use @param table whether its cells are rows of a table
 * @returns what is wrong with it, if anything is
 */
export function readTreePage(reader: BlockReader, start: number, header: number, usable: number, table: boolean): TreePage | string {
  const kind = reader.u8(header);
  const leaf = kind === PAGE.leafIndex || kind === PAGE.leafTable;
  const wanted = table ? kind === PAGE.leafTable || kind === PAGE.interiorTable : kind === PAGE.leafIndex || kind === PAGE.interiorIndex;
  if (!wanted) return "a page is not what should stand there";
  const count = reader.u16be(header + 3);
  const pointers = header + (leaf ? 8 : 12);
  if (pointers + count * 2 > start + usable) return "a page claims more rows than it has room for";
  const room = new PageRoom(reader, start, header, usable);
  const below: { page: number; most: number }[] = [];
  const spilling: Spilling[] = [];
  const cells: { at: number; length: number }[] = [];
  let [least, most] = [Number.POSITIVE_INFINITY, Number.NEGATIVE_INFINITY];
  for (let i = 0; i < count; i += 1) {
    const cell = reader.u16be(pointers + i * 2);
    if (cell < pointers + count * 2 - start || cell >= usable) return "a row stands outside its page";
    let number = Number.POSITIVE_INFINITY;
    if (table) {
      number = leaf ? varint(reader, varint(reader, start + cell).next).value : varint(reader, start + cell + 4).value;
      if (number <= most) return "the rows are out of their order";
      least = Math.min(least, number);
      most = number;
    }
    if (!leaf) below.push({ page: reader.u32be(start + cell), most: number });
    let end: number;
    if (kind === PAGE.interiorTable) end = varint(reader, start + cell + 4).next - start;
    else {
      const payload = readPayload(reader, start, cell + (leaf ? 0 : 4), kind, usable);
      if (typeof payload === "string") return payload;
      cells.push(payload);
      end = payload.at + payload.length - start + (payload.left > 0 ? 4 : 0);
      if (payload.left > 0) spilling.push({ page: reader.u32be(payload.at + payload.length), left: payload.left });
    }
    if (!room.take(cell, Math.max(4, end - cell))) return "two rows claim the same bytes";
  }
  if (!room.isFull(pointers - start + count * 2)) return "the room on a page does not add up";
  if (!leaf) below.push({ page: reader.u32be(header + 8), most: Number.POSITIVE_INFINITY });
  return { below, spilling, cells, least, most };
}

/** The payload of a cell: where it stands on the page, and how much of it stands on others (1.6). */
function readPayload(
  reader: BlockReader,
  start: number,
  cell: number,
  kind: number,
  usable: number,
): { at: number; length: number; left: number } | string {
  const first = varint(reader, start + cell);
  const at = kind === PAGE.leafTable ? varint(reader, first.next).next : first.next;
  const size = first.value;
  const most = kind === PAGE.leafTable ? usable - 35 : Math.floor(((usable - 12) * 64) / 255) - 23;
  let length = size;
  if (size > most) {
    const least = Math.floor(((usable - 12) * 32) / 255) - 23;
    const spilled = least + ((size - least) % (usable - 4));
    length = spilled <= most ? spilled : least;
  }
  if (at - start + length > usable) return "a row runs past the end of its page";
  if ((kind !== PAGE.leafTable || length === size) && !isRecord(reader, at, length, size)) return "a row does not have the fields it says";
  return { at, length, left: size - length };
}

/** Places of each size at which it is tried whether a page stands there. */
const MOST_TRIED = 400;

/**
 * Finds the page size of a database whose header is gone: the one at whose multiples the most pages of trees stand, whose rows make up their room to the
 * byte. A file that was cut off may end within a page. 0: none does.
 */
export function findPageSize(reader: BlockReader): number {
  let best = 0;
  let most = 0;
  for (let size = 65_536; size >= 512; size /= 2) {
    const pages = Math.floor(reader.size / size);
    const tried = Math.min(MOST_TRIED, pages - 1);
    let found = 0;
    for (let i = 0; i < tried; i += 1) if (isFilledPage(reader, (1 + Math.floor((i * (pages - 1)) / tried)) * size, size)) found += 1;
    if (found > most * tried) [best, most] = [size, found / tried];
  }
  return best;
}

function isFilledPage(reader: BlockReader, at: number, size: number): boolean {
  const kind = reader.u8(at);
  if (!PAGE_KINDS.has(kind)) return false;
  const page = readOrNone(reader, at, size, kind === PAGE.leafTable || kind === PAGE.interiorTable);
  return page !== null && page.cells.length + page.below.length > 0;
}

/** Reads a page of a tree; null: none stands there, or a damaged one. */
function readOrNone(reader: BlockReader, at: number, usable: number, table: boolean): TreePage | null {
  try {
    const page = readTreePage(reader, at, at, usable, table);
    return typeof page === "string" ? null : page;
  } catch (error) {
    if (!(error instanceof PastEnd)) throw error;
    return null;
  }
}

/** Whether the row numbers on a page, if it has any, are more than `over`, and `most` at most. */
export const hasRowsBetween = (page: TreePage, over: number, most: number): boolean =>
  page.least > page.most || (page.least > over && page.most <= most);

/** Whether a page of a tree stands in these bytes, none of whose row numbers is out of bounds. @param over less than all of them @param most the highest there may be */
export function isTreePage(bytes: Uint8Array, usable: number, table: boolean, over: number, most: number): boolean {
  if (!PAGE_KINDS.has(bytes[0] as number)) return false;
  const page = readOrNone(new BlockReader(new MemorySource(bytes)), 0, usable, table);
  return page !== null && page.cells.length + page.below.length > 0 && hasRowsBetween(page, over, most);
}

/** A number of 1 to 9 bytes, the highest first (1.6). */
export function varint(reader: BlockReader, at: number): { value: number; next: number } {
  let value = 0;
  for (let i = 0; i < 8; i += 1) {
    const byte = reader.u8(at + i);
    value = value * 128 + (byte & 127);
    if (byte < 128) return { value, next: at + i + 1 };
  }
  return { value: value * 256 + reader.u8(at + 8), next: at + 9 };
}

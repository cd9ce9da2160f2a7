import type { Page } from "./pages";
import { readRowId, readVarint, varintEnd } from "./varint";

/** The kinds of pages of a tree (SQLite file format 1.6). */
export const KIND = { interiorIndex: 2, interiorTable: 5, leafIndex: 10, leafTable: 13 } as const;

export const isTreePage = (kind: number) =>
  kind === KIND.leafTable || kind === KIND.interiorTable || kind === KIND.leafIndex || kind === KIND.interiorIndex;

/** A cell that holds a record: a row of a table, or an entry of an index. */
export interface Cell {
  /** Its offset in the page. */
  at: number;
  rowid: number | bigint | null;
  /** Bytes of the record in all, and those of them on this page. */
  payload: number;
  local: number;
  /** Where the record begins in the page. */
  recordAt: number;
  /** Where the cell ends in the page. */
  end: number;
  /** The first page of the rest; 0: all is here. */
  overflow: number;
}

/** Bytes of a record that stand on the page itself (1.6). */
export function localLength(payload: number, usable: number, table: boolean): number {
  const most = table ? usable - 35 : Math.floor(((usable - 12) * 64) / 255) - 23;
  if (payload <= most) return payload;
  const least = Math.floor(((usable - 12) * 32) / 255) - 23;
  const spilled = least + ((payload - least) % (usable - 4));
  return spilled <= most ? spilled : least;
}

/** A record is never longer (SQLITE_MAX_LENGTH at its highest). */
const MOST_PAYLOAD = 0x7fff_ffff;

/** Reads the cell at an offset of a leaf, or of an inner page of an index. @returns false when it does not fit its page */
export function readCell(page: Page, at: number, kind: number, usable: number, cell: Cell): boolean {
  const { bytes } = page;
  let next = kind === KIND.interiorIndex ? at + 4 : at;
  const table = kind === KIND.leafTable;
  if (next + 2 > usable) return false;
  cell.at = at;
  cell.payload = readVarint(bytes, next);
  next = varintEnd;
  if (table) {
    cell.rowid = readRowId(bytes, next);
    next = varintEnd;
  } else cell.rowid = null;
  if (cell.payload < 1 || cell.payload > MOST_PAYLOAD) return false;
  cell.recordAt = next;
  cell.local = localLength(cell.payload, usable, table);
  cell.end = next + cell.local;
  cell.overflow = 0;
  if (cell.local < cell.payload) {
    if (cell.end + 4 > usable) return false;
    cell.overflow = bytes.readUInt32BE(cell.end);
    cell.end += 4;
  }
  return cell.end <= usable;
}

/** What stands at the head of a page of a tree, as far as it makes sense. */
export interface PageHead {
  readonly kind: number;
  /** Where each cell begins; those outside of the page are left out. */
  readonly cells: number[];
  /** Where the pointers to the cells end. */
  readonly pointersEnd: number;
  /** Where free blocks begin (1.6), as far as their list makes sense. */
  readonly freeBlocks: number[];
  /** The last child of an inner page. */
  readonly right: number;
  /** Whether nothing contradicts itself. */
  readonly sound: boolean;
}

/** Reads the head of a page. @returns null when it is none of a tree */
export function readPageHead({ bytes, header }: Page, usable: number): PageHead | null {
  const kind = bytes[header] as number;
  if (!isTreePage(kind)) return null;
  const leaf = kind === KIND.leafTable || kind === KIND.leafIndex;
  const pointers = header + (leaf ? 8 : 12);
  // A row has a length, a number and a body; above the leaves a page (4 bytes) and a number, or a body.
  const least = leaf ? 3 : 5;
  const count = bytes.readUInt16BE(header + 3);
  const pointersEnd = pointers + count * 2;
  const content = bytes.readUInt16BE(header + 5) || 65_536;
  if (pointersEnd > usable) return null;
  let sound = content >= pointersEnd && content <= usable;
  const cells: number[] = [];
  for (let i = pointers; i < pointersEnd; i += 2) {
    const at = bytes.readUInt16BE(i);
    if (at < pointersEnd || at + least > usable) sound = false;
    else cells.push(at);
  }
  const freeBlocks: number[] = [];
  for (let block = bytes.readUInt16BE(header + 1), before = 0; block !== 0; ) {
    if (block <= before || block < pointersEnd || block + 4 > usable) {
      sound = false;
      break;
    }
    freeBlocks.push(block);
    before = block;
    block = bytes.readUInt16BE(block);
  }
  return { kind, cells, pointersEnd, freeBlocks, right: leaf ? 0 : bytes.readUInt32BE(header + 8), sound };
}

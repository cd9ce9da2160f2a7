import type { Cell } from "./cell";
import type { Page, Pages } from "./pages";

/** The pages of a database, and what it is known to use each for. */
export interface PageUse {
  readonly pages: Pages;
  /** Pages the database has. */
  readonly count: number;
  readonly usable: number;
  /** Which tree a page belongs to, counted from 1; 0: none that was reached. */
  readonly owners: Uint16Array;
  /** What else a page is: 1 the rest of a row, 2 a list of free pages, 3 a free page. */
  readonly roles: Uint8Array;
}

/**
 * Reads a record's bytes: on its page, or put together with the pages it goes on to (SQLite file format, 1.6).
 * @param counts whether the row counts, so that those pages are its own
 */
export function recordOf(
  database: PageUse,
  page: Page,
  cell: Cell,
  counts: boolean,
): { bytes: Buffer; recordAt: number; end: number; whole: boolean } {
  const { recordAt, local, overflow } = cell;
  if (overflow === 0) return { bytes: page.bytes, recordAt, end: recordAt + local, whole: local === cell.payload };
  const { bytes, whole } = withOverflow(database, page, cell, counts);
  return { bytes, recordAt: 0, end: bytes.length, whole };
}

function withOverflow(
  database: PageUse,
  page: Page,
  { recordAt, local, payload, overflow }: Cell,
  counts: boolean,
): { bytes: Buffer; whole: boolean } {
  const { pages, owners, roles, count, usable } = database;
  // What is claimed is not taken before the pages for it are there.
  const most = Math.min(payload, local + count * (usable - 4));
  const pieces: Buffer[] = [page.bytes.subarray(recordAt, recordAt + local)];
  let length = local;
  const seen = new Set<number>();
  for (let next = overflow; length < most && next > 0 && next <= count && !seen.has(next); ) {
    seen.add(next);
    const more = counts ? pages.get(next) : formerPage(pages, next, page);
    if (!more || isZero(more.bytes)) break;
    if (counts) {
      if (owners[next]) break;
      roles[next] = 1;
    } else if (!mayGoOn(database, more, payload - length)) break;
    const part = more.bytes.subarray(4, Math.min(usable, 4 + payload - length));
    pieces.push(part);
    length += part.length;
    next = more.bytes.readUInt32BE(0);
  }
  return { bytes: Buffer.concat(pieces), whole: length === payload };
}

/** A page as it was when a row that does not count any more led to it. */
function formerPage(pages: Pages, number: number, leaf: Page): Page | null {
  const { from, at } = pages.placeBeside(number, leaf);
  return pages.read(number, from, at);
}

/** Whether a page can be the rest of a row that does not count: one that has become a tree's or another row's, or has a list written over it, is not. */
function mayGoOn({ pages, owners, roles, count, usable }: PageUse, { number, bytes, from, at }: Page, left: number): boolean {
  const now = pages.placeOf(number);
  const isNow = now.from === from && now.at === at;
  if (isNow && (owners[number] || (roles[number] !== 3 && roles[number] !== 0))) return false;
  // The last page of a chain leads nowhere, every other one to a page (1.6).
  const next = bytes.readUInt32BE(0);
  return left <= usable - 4 ? next === 0 : next > 0 && next <= count;
}

const isZero = (bytes: Buffer) => bytes.every((byte) => byte === 0);

import type { BlockReader } from "../bytes/block-reader";
import { LayoutSource, layoutOf, type Segment } from "../bytes/layout";
import { formatById, runCheck } from "../formats/registry";
import { isPageSize, pageSizeOf } from "../formats/sqlite";
import { BytesOut } from "./bytes-out";
import { kept, made, type Repaired } from "./repaired";

const KINDS: ReadonlySet<number> = new Set([2, 5, 10, 13]);
const MOST_ROUNDS = 256;

/**
 * A database that opens again: a header that is gone is written anew, and pages that make no sense are taken out (empty pages in
 * their place), so that the rows of all others can be read.
 */
export function repairDatabase(reader: BlockReader): Repaired | null {
  const format = formatById.get("sqlite");
  const done: string[] = [];
  const pageSize = headerIsRight(reader) ? pageSizeOf(reader.u16be(16)) : guessedPageSize(reader);
  if (!format || pageSize === 0) return null;
  const pages = Math.floor(reader.size / pageSize);
  const changed = new Map<number, Segment>();
  if (!headerIsRight(reader)) {
    changed.set(1, made(firstPage(reader, pageSize, pages)));
    done.push(`The header was written anew, with pages of ${pageSize} bytes.`);
  } else if (reader.u32be(28) !== pages || reader.u32be(24) !== reader.u32be(92)) {
    changed.set(1, made(pageCounted(reader.bytes(0, pageSize).slice(), pages)));
    done.push(`The header now tells the ${pages} pages there are.`);
  }
  let emptied = 0;
  for (let round = 0; round < MOST_ROUNDS; round += 1) {
    const segments = layout(pages, pageSize, changed);
    const verdict = runCheck(format, new LayoutSource(reader.source, layoutOf(segments, pages * pageSize)));
    if (verdict.verdict !== "damaged") break;
    const page = Math.floor(verdict.at / pageSize) + 1;
    // Pages that nothing leads to any more do no harm.
    if (verdict.reason.includes("nothing in the database") || verdict.reason.includes("list of free pages")) {
      if (page === 1 || verdict.reason.includes("list of free")) changed.set(1, made(withoutFreePages(firstOf(reader, changed, pageSize))));
      else break;
      continue;
    }
    if (page <= 1 || page > pages || emptied > pages) break;
    changed.set(page, made(emptyPage(reader.u8((page - 1) * pageSize), pageSize)));
    emptied += 1;
  }
  if (emptied > 0)
    done.push(`${emptied} damaged page${emptied === 1 ? " was" : "s were"} taken out; the rows on the others are as they were.`);
  return done.length > 0 ? { segments: layout(pages, pageSize, changed), done } : null;
}

const headerIsRight = (reader: BlockReader) => reader.has(0, "SQLite format 3\0") && isPageSize(pageSizeOf(reader.u16be(16)));

function layout(pages: number, pageSize: number, changed: ReadonlyMap<number, Segment>): Segment[] {
  return Array.from({ length: pages }, (_, i) => changed.get(i + 1) ?? kept(i * pageSize, pageSize));
}

/** The page size at whose multiples pages begin most often; 0: none fits. */
function guessedPageSize(reader: BlockReader): number {
  let best = 0;
  let most = 0;
  for (let size = 65_536; size >= 512; size /= 2) {
    const pages = Math.min(400, Math.floor(reader.size / size));
    if (pages < 1 || reader.size % size !== 0) continue;
    let right = KINDS.has(reader.u8(100)) ? 1 : 0;
    for (let page = 2; page <= pages; page += 1) if (isPage(reader, (page - 1) * size, size)) right += 1;
    const share = right / pages;
    if (share > most + 0.05) [best, most] = [size, share];
  }
  return most > 0.3 ? best : 0;
}

function isPage(reader: BlockReader, at: number, size: number): boolean {
  const kind = reader.u8(at);
  if (!KINDS.has(kind)) return false;
  const cells = reader.u16be(at + 3);
  const content = reader.u16be(at + 5);
  return cells * 2 + 8 <= size && (content === 0 || content <= size) && (content === 0 || content >= cells * 2 + 8);
}

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

function firstOf(reader: BlockReader, changed: ReadonlyMap<number, Segment>, pageSize: number): Uint8Array {
  const first = changed.get(1);
  return first?.kind === "held" ? first.bytes.slice() : reader.bytes(0, pageSize).slice();
}

function withoutFreePages(page: Uint8Array): Uint8Array {
  page.fill(0, 32, 40);
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

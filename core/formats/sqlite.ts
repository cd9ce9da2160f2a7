import { BlockReader } from "../bytes/block-reader";
import type { ByteSource } from "../bytes/byte-source";
import { following } from "./following";
import {
  breaksAt,
  cannotTell,
  damaged,
  type Extent,
  endsAt,
  type Format,
  hasAscii,
  hasSignature,
  type Signature,
  type Summary,
} from "./format";

/** SQLite database file format: 1.3 (header), 1.5 to 1.6 (pages), 4.1 to 4.2 (write-ahead log), 3 (rollback journal). */
const HEADER = "SQLite format 3\0";
const PAGE = { interiorIndex: 2, interiorTable: 5, leafIndex: 10, leafTable: 13 } as const;
const KINDS: ReadonlySet<number> = new Set(Object.values(PAGE));

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

/** How the pages of a database hang together: which are reached from the tables, and the first thing that is wrong. */
class PageWalk {
  readonly #seen: Uint8Array;
  readonly #usable: number;
  problem: { at: number; reason: string } | null = null;

  constructor(
    private readonly reader: BlockReader,
    private readonly pageSize: number,
    private readonly pages: number,
  ) {
    this.#seen = new Uint8Array(pages + 1);
    this.#usable = pageSize - reader.u8(20);
  }

  #fail(page: number, reason: string, inside = 0): undefined {
    this.problem ??= { at: (page - 1) * this.pageSize + inside, reason };
  }

  #take(page: number, from: number): boolean {
    if (page < 1 || page > this.pages) this.#fail(from, "it points to a page that does not exist");
    else if (this.#seen[page]) this.#fail(page, "two parts of the database claim the same page");
    else {
      this.#seen[page] = 1;
      return true;
    }
    return false;
  }

  /** Follows a tree of pages from its root. @param table whether its cells are rows of a table */
  tree(root: number, table: boolean, onCell: (reader: BlockReader, at: number, length: number) => void = () => undefined): undefined {
    const waiting: [page: number, from: number][] = [[root, root]];
    for (let next = waiting.pop(); next && !this.problem; next = waiting.pop()) {
      const [page, from] = next;
      if (!this.#take(page, from)) return undefined;
      const start = (page - 1) * this.pageSize;
      const at = start + (page === 1 ? 100 : 0);
      const kind = this.reader.u8(at);
      const leaf = kind === PAGE.leafIndex || kind === PAGE.leafTable;
      const wanted = table
        ? kind === PAGE.leafTable || kind === PAGE.interiorTable
        : kind === PAGE.leafIndex || kind === PAGE.interiorIndex;
      if (!wanted) return this.#fail(page, "a page is not what should stand there");
      const cells = this.reader.u16be(at + 3);
      const pointers = at + (leaf ? 8 : 12);
      const room = new PageRoom(this.reader, start, at, this.#usable);
      let before = Number.NEGATIVE_INFINITY;
      if (pointers + cells * 2 > start + this.#usable) return this.#fail(page, "a page claims more rows than it has room for");
      const below: [page: number, from: number][] = leaf ? [] : [[this.reader.u32be(at + 8), page]];
      for (let i = 0; i < cells && !this.problem; i += 1) {
        const cell = this.reader.u16be(pointers + i * 2);
        if (cell < pointers + cells * 2 - start || cell >= this.#usable)
          return this.#fail(page, "a row stands outside its page", pointers + i * 2 - start);
        if (!leaf) below.push([this.reader.u32be(start + cell), page]);
        if (table) {
          // Rows stand in the order of their numbers.
          const number = leaf
            ? varint(this.reader, varint(this.reader, start + cell).next).value
            : varint(this.reader, start + cell + 4).value;
          if (number <= before) return this.#fail(page, "the rows are out of their order", cell);
          before = number;
        }
        const end =
          kind === PAGE.interiorTable
            ? varint(this.reader, start + cell + 4).next - start
            : this.#payload(start, page, cell + (leaf ? 0 : 4), kind, onCell);
        if (end !== undefined && !room.take(cell, Math.max(4, end - cell))) return this.#fail(page, "two rows claim the same bytes", cell);
      }
      if (!this.problem && !room.isFull(pointers - start + cells * 2))
        return this.#fail(page, "the room on a page does not add up", at - start);
      // From left to right, which is mostly as they stand in the file: where another file's bytes begin is what shows first.
      const [rightmost, ...others] = below;
      if (rightmost) waiting.push(rightmost, ...others.reverse());
    }
  }

  /** The payload of a cell, and the pages it spills over to (1.6). */
  #payload(
    start: number,
    page: number,
    cell: number,
    kind: number,
    onCell: (reader: BlockReader, at: number, length: number) => void,
  ): number | undefined {
    const first = varint(this.reader, start + cell);
    let content = first.next;
    if (kind === PAGE.leafTable) content = varint(this.reader, content).next;
    const size = first.value;
    const usable = this.#usable;
    const most = kind === PAGE.leafTable ? usable - 35 : Math.floor(((usable - 12) * 64) / 255) - 23;
    let here = size;
    if (size > most) {
      const least = Math.floor(((usable - 12) * 32) / 255) - 23;
      const spilled = least + ((size - least) % (usable - 4));
      here = spilled <= most ? spilled : least;
    }
    if (content - start + here > usable) return this.#fail(page, "a row runs past the end of its page", cell);
    onCell(this.reader, content, here);
    if (kind !== PAGE.leafTable || here === size ? !isRecord(this.reader, content, here, size) : false)
      return this.#fail(page, "a row does not have the fields it says", cell);
    if (here === size) return content - start + here;
    let left = size - here;
    for (let next = this.reader.u32be(content + here), from = page; left > 0; left -= usable - 4) {
      if (!this.#take(next, from)) return undefined;
      from = next;
      next = this.reader.u32be((next - 1) * this.pageSize);
    }
    return content - start + here + 4;
  }

  /** The chain of free pages (1.5). */
  free(first: number, count: number): undefined {
    let found = 0;
    for (let trunk = first, from = 1; trunk !== 0 && !this.problem; ) {
      if (!this.#take(trunk, from)) return undefined;
      found += 1;
      const at = (trunk - 1) * this.pageSize;
      const leaves = this.reader.u32be(at + 4);
      if (leaves > this.#usable / 4 - 2) return this.#fail(trunk, "the list of free pages is damaged");
      for (let i = 0; i < leaves && !this.problem; i += 1, found += 1) this.#take(this.reader.u32be(at + 8 + i * 4), trunk);
      from = trunk;
      trunk = this.reader.u32be(at);
    }
    if (!this.problem && found !== count) this.#fail(1, "the list of free pages is damaged", 36);
  }

  /** Pages that nothing leads to. */
  unused(autoVacuum: boolean): undefined {
    if (this.problem || autoVacuum) return undefined;
    for (let page = 1; page <= this.pages; page += 1) {
      // The page with the lock byte is never used (1.4).
      if (this.#seen[page] || (page - 1) * this.pageSize <= 0x4000_0000 === page * this.pageSize > 0x4000_0000) continue;
      return this.#fail(page, "nothing in the database leads to this page");
    }
  }
}

/** Guesses the page size of a database whose header is gone: at its multiples pages begin most often. 0: none fits. */
export function guessedPageSize(reader: BlockReader): number {
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

/** Whether a page of this size begins here: cells are laid from its end, so that the first of them stands in its second half. */
function isPage(reader: BlockReader, at: number, size: number): boolean {
  const kind = reader.u8(at);
  if (!KINDS.has(kind)) return false;
  const cells = reader.u16be(at + 3);
  const content = reader.u16be(at + 5);
  const pointers = at + (kind === PAGE.leafIndex || kind === PAGE.leafTable ? 8 : 12);
  if (pointers - at + cells * 2 > size || (content !== 0 && content > size)) return false;
  if (cells === 0) return content === (size & 0xffff);
  let last = 0;
  for (let i = 0; i < cells; i += 1) last = Math.max(last, reader.u16be(pointers + i * 2));
  return last < size && last >= size / 2;
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

/** The root pages of the tables and indexes that a cell of the list of tables names (2.6), and what they are. */
function rootOf(reader: BlockReader, at: number, length: number): { type: string; root: number } | null {
  const header = varint(reader, at);
  const types: number[] = [];
  for (let next = header.next; next < at + header.value && next < at + length; ) {
    const type = varint(reader, next);
    types.push(type.value);
    next = type.next;
  }
  let value = at + header.value;
  const bytesOf = (type: number) => (type >= 12 ? Math.floor((type - 12) / 2) : ([0, 1, 2, 3, 4, 6, 8, 8, 0, 0][type] ?? 0));
  const type = types[0] === undefined ? "" : reader.ascii(value, Math.min(16, bytesOf(types[0])));
  for (const each of types.slice(0, 3)) value += bytesOf(each);
  const rootType = types[3];
  if (rootType === undefined) return null;
  let root = rootType === 9 ? 1 : 0;
  if (rootType >= 1 && rootType <= 4) for (let i = 0; i < bytesOf(rootType); i += 1) root = root * 256 + reader.u8(value + i);
  return { type, root };
}

const MOST_PAGES = 1 << 24;

function followDatabase(source: ByteSource): Extent | null {
  return following(source, "the database breaks off before its end", (reader) => {
    const pageSize = pageSizeOf(reader.u16be(16));
    if (!isPageSize(pageSize) || reader.u8(21) !== 64 || reader.u8(22) !== 32) return breaksAt(16, "the database's header is damaged");
    const stated = reader.u32be(28);
    // The size in the header counts only when it was written together with the change counter (1.3.7).
    const valid = stated > 0 && reader.u32be(24) === reader.u32be(92);
    const pages = valid ? stated : Math.floor(source.size / pageSize);
    const end = pages * pageSize;
    if (pages > MOST_PAGES) return null;
    if (end > source.size) return breaksAt(source.size, "pages at the end of the database are missing", end);
    const walk = new PageWalk(reader, pageSize, pages);
    const roots: { type: string; root: number }[] = [];
    walk.tree(1, true, (cells, at, length) => {
      const root = rootOf(cells, at, length);
      if (root && root.root > 0) roots.push(root);
    });
    for (const { type, root } of roots) if (!walk.problem) treeOf(walk, reader, pageSize, pages, type, root);
    if (!walk.problem) walk.free(reader.u32be(32), reader.u32be(36));
    walk.unused(reader.u32be(52) !== 0);
    return { size: end, closed: valid, verdict: walk.problem ? damaged(walk.problem.at, walk.problem.reason) : { verdict: "sound" } };
  });
}

function treeOf(walk: PageWalk, reader: BlockReader, pageSize: number, pages: number, type: string, root: number): void {
  // Tables without row numbers are kept as indexes: the page itself says.
  const kind = root <= pages ? reader.u8((root - 1) * pageSize + (root === 1 ? 100 : 0)) : 0;
  const asTable = type === "table" && (kind === PAGE.leafTable || kind === PAGE.interiorTable || !KINDS.has(kind));
  walk.tree(root, asTable);
}

const LOG_MARKS = ["\x37\x7f\x06\x82", "\x37\x7f\x06\x83"];

/** Where the bytes go on behind the last sound frame, the log may have gone on elsewhere. */
const OPEN_END = cannotTell("nothing in the log says where it ends");

/** A write-ahead log: frames with the salt of the header and a running checksum (4.2); it goes as far as both are right. */
function followLog(source: ByteSource): Extent | null {
  return following(source, "the log breaks off", (reader) => {
    const big = reader.u8(3) === 0x83;
    const pageSize = reader.u32be(8);
    if (!isPageSize(pageSize) || reader.u32be(4) !== 3_007_000) return null;
    const salt = reader.ascii(16, 8);
    let [s0, s1] = [0, 0];
    const sum = (at: number, length: number) => {
      for (let i = at; i < at + length; i += 8) {
        s0 = (s0 + (big ? reader.u32be(i) : reader.u32(i)) + s1) >>> 0;
        s1 = (s1 + (big ? reader.u32be(i + 4) : reader.u32(i + 4)) + s0) >>> 0;
      }
    };
    sum(0, 24);
    if (reader.u32be(24) !== s0 || reader.u32be(28) !== s1) return breaksAt(24, "the log's header is damaged");
    let at = 32;
    let valid = true;
    let frames = 0;
    while (at + 24 + pageSize <= source.size) {
      if (valid) {
        sum(at, 8);
        sum(at + 24, pageSize);
        valid = reader.ascii(at + 8, 8) === salt && reader.u32be(at + 16) === s0 && reader.u32be(at + 20) === s1;
      }
      // Frames of an earlier round may follow: a page number and the earlier salt, one less in its first part.
      if (!valid && (reader.u32be(at) === 0 || reader.u32be(at) > 1 << 24 || Math.abs(reader.u32be(at + 8) - reader.u32be(16)) > 64)) break;
      at += 24 + pageSize;
      frames += 1;
    }
    if (frames === 0) return breaksAt(at, "the log holds no page");
    return endsAt(at, at + 24 + pageSize > source.size ? undefined : OPEN_END);
  });
}

const JOURNAL_MARK = "\xd9\xd5\x05\xf9\x20\xa1\x63\xd7";

/** A rollback journal: a header of one sector, then pages with their number and checksum (3). */
function followJournal(source: ByteSource): Extent | null {
  return following(source, "the journal breaks off", (reader) => {
    const [stated, nonce, sector, pageSize] = [reader.u32be(8), reader.u32be(12), reader.u32be(20), reader.u32be(24)] as const;
    if (!isPageSize(pageSize) || sector < 28 || sector > 65_536) return null;
    let at = sector;
    for (let pages = 0; stated === 0xffff_ffff || pages < stated; pages += 1) {
      if (at + pageSize + 8 > source.size) return stated === 0xffff_ffff ? endsAt(at) : breaksAt(source.size, "the journal breaks off");
      let sum = nonce;
      for (let i = pageSize - 200; i > 0; i -= 200) sum = (sum + reader.u8(at + 4 + i)) >>> 0;
      if (reader.u32be(at + 4 + pageSize) !== sum) {
        if (stated === 0xffff_ffff && pages > 0) return endsAt(at, OPEN_END);
        return breaksAt(at, "the checksum of a page does not match");
      }
      at += pageSize + 8;
    }
    return endsAt(at);
  });
}

const logSignatures: readonly Signature[] = LOG_MARKS.map((mark) => ({ at: 0, mark: `${mark}\0\x2d\xe2\x18` }));

export const sqliteFormats: readonly Format[] = [
  {
    id: "sqlite",
    kind: "application-data",
    title: "SQLite database",
    extensions: ["sqlite", "sqlite3", "db"],
    signatures: [{ at: 0, mark: HEADER }],
    recognise: (head) => hasAscii(head, 0, HEADER),
    follow: followDatabase,
    summarise(source): Summary {
      const reader = new BlockReader(source);
      // The statements that made the tables stand in the first pages.
      const head = new TextDecoder().decode(reader.bytes(0, Math.min(source.size, 65_536)));
      const tables = [...head.matchAll(/CREATE TABLE\s+["'`[]?(\w{1,40})/g)]
        .map((match) => match[1])
        .filter((name) => !name?.startsWith("sqlite_"));
      return tables.length > 0 ? { text: `Tables: ${[...new Set(tables)].slice(0, 12).join(", ")}` } : {};
    },
  },
  {
    id: "sqlite-wal",
    kind: "application-data",
    title: "write-ahead log of an SQLite database",
    extensions: ["db-wal", "sqlite-wal"],
    signatures: logSignatures,
    recognise: (head) => hasSignature(head, logSignatures),
    follow: followLog,
  },
  {
    id: "sqlite-journal",
    kind: "application-data",
    title: "rollback journal of an SQLite database",
    extensions: ["db-journal", "sqlite-journal"],
    signatures: [{ at: 0, mark: JOURNAL_MARK }],
    recognise: (head) => hasAscii(head, 0, JOURNAL_MARK),
    follow: followJournal,
  },
];

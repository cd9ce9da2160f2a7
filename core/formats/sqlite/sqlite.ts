import { BlockReader } from "../../bytes/block-reader";
import type { ByteSource } from "../../bytes/byte-source";
import { following } from "../following";
import { breaksAt, type Extent, type Format, hasAscii, type Summary } from "../format";
import { sqliteLogFormats } from "./logs";
import { isPageSize, PAGE, PAGE_KINDS, pageSizeOf, varint } from "./page";
import { type MissingPage, PageWalk } from "./walk";

/** SQLite database file format: 1.3 (header), 2.6 (list of tables). */
const HEADER = "SQLite format 3\0";

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
    const walk = walkTrees(reader, pageSize, pages);
    if (walk.isSound) walk.free(reader.u32be(32), reader.u32be(36));
    if (walk.isSound) walk.unused();
    return walk.extent(end, valid);
  });
}

function walkTrees(reader: BlockReader, pageSize: number, pages: number): PageWalk {
  const walk = new PageWalk(reader, pageSize, pages, reader.u32be(52) !== 0);
  const roots: { type: string; root: number }[] = [];
  walk.tree(1, true, (at, length) => {
    const root = rootOf(reader, at, length);
    if (root && root.root > 0) roots.push(root);
  });
  for (const { type, root } of roots) treeOf(walk, reader, pageSize, pages, type, root);
  return walk;
}

/** The pages of a broken database that are not where the pages above them say, in the order of the file, and how many bytes each has. */
export function missingPages(reader: BlockReader): { pageSize: number; missing: MissingPage[] } {
  const pageSize = pageSizeOf(reader.u16be(16));
  const stated = reader.u32be(28);
  if (!isPageSize(pageSize) || stated === 0 || stated > MOST_PAGES || stated * pageSize > reader.size) return { pageSize, missing: [] };
  return { pageSize, missing: walkTrees(reader, pageSize, stated).missing.sort((a, b) => a.page - b.page) };
}

function treeOf(walk: PageWalk, reader: BlockReader, pageSize: number, pages: number, type: string, root: number): void {
  // Tables without row numbers are kept as indexes: the page itself says.
  const kind = root <= pages ? reader.u8((root - 1) * pageSize + (root === 1 ? 100 : 0)) : 0;
  const asTable = type === "table" && (kind === PAGE.leafTable || kind === PAGE.interiorTable || !PAGE_KINDS.has(kind));
  walk.tree(root, asTable);
}

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
  ...sqliteLogFormats,
];

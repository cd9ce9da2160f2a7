import { type ByteSource, readBytes } from "../bytes/byte-source";
import { Cursor } from "../bytes/cursor";
import { damaged, type Format, hasAscii, SOUND, type Verdict } from "./format";

/** SQLite database file format, 1.3 (header) and 1.6 (first byte of a b-tree page). */
export const sqlite: Format = {
  id: "sqlite",
  kind: "application-data",
  title: "SQLite database",
  extensions: ["sqlite", "sqlite3", "db"],
  recognise: (head) => hasAscii(head, 0, "SQLite format 3\0"),
  check,
};

function check(source: ByteSource): Verdict {
  if (source.size < 100) return damaged(source.size, "the database breaks off in its header");
  const head = new Cursor(readBytes(source, 0, 112));
  const raw = head.u16be(16);
  const pageSize = raw === 1 ? 65_536 : raw;
  if (pageSize < 512 || (pageSize & (pageSize - 1)) !== 0) return damaged(16, "the page size cannot be");
  const pages = head.u32be(28);
  if (pages * pageSize > source.size) return damaged(source.size, "pages at the end of the database are missing");
  if (head.u8(100) !== 0x0d && head.u8(100) !== 0x05) return damaged(100, "the first page does not hold the list of tables");
  return SOUND;
}

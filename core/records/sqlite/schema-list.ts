import { BlockReader } from "../../bytes/block-reader";
import { MemorySource } from "../../bytes/byte-source";
import { readTreePage } from "../../formats/sqlite/page";
import { KIND } from "./cell";
import { parseTable } from "./statement";

/** A line of the list of tables and indexes a database begins with (SQLite file format, 2.6). */
export interface SchemaEntry {
  readonly type: string;
  readonly name: string;
  readonly table: string;
  readonly root: number;
  readonly sql: string;
}

/** What the list names (2.6). */
const TYPES: ReadonlySet<string> = new Set(["table", "index", "view", "trigger"]);
/** Characters that stand in no name, no statement and hardly in another text. */
// biome-ignore lint/suspicious/noControlCharactersInRegex: it is what is looked for.
export const NO_TEXT = /[\0-\x08\x0b\x0e-\x1f\ufffd]/;

/**
 * Whether an entry can be what somebody declared, and its tree is of the kind it says.
 * @param kind the mark of the page its tree begins with; null: no page of a tree is there, which is noted of its table and does not make the entry damaged
 */
export function isPossibleEntry({ type, name, root, sql }: SchemaEntry, kind: number | null): boolean {
  if (!TYPES.has(type) || NO_TEXT.test(name) || NO_TEXT.test(sql)) return false;
  // Views and triggers have no tree, nor have tables that are virtual.
  if (root === 0) return true;
  if (kind === null) return root > 1;
  const byNumber = kind === KIND.leafTable || kind === KIND.interiorTable;
  const statement = type === "table" ? parseTable(sql) : null;
  return type === "table" ? statement === null || byNumber === !statement.withoutRowId : !byNumber;
}

/** Whether a page of the list adds up to the byte. @param header where its header begins: 100 on the first page */
export function isSoundPage(bytes: Buffer, header: number, usable: number): boolean {
  const reader = new BlockReader(new MemorySource(bytes));
  return typeof readTreePage(reader, 0, header, usable, true) !== "string";
}

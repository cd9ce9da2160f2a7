import { strFromU8, unzipSync } from "fflate";
import Papa from "papaparse";
import readWorkbook from "read-excel-file/node";
import { MemorySource } from "../../core/bytes/byte-source";
import { decodeText } from "../../core/bytes/text-encoding";
import { walkXml } from "../../core/bytes/xml";
import { RecordReader } from "../../core/records/records";
import type { Row } from "../../core/records/row";
import { parseTable } from "../../core/records/sqlite/statement";
import type { StoredCopy } from "../items/queries";
import { Problem } from "../problem";
import { wholeContent } from "./content";
import type { TablesPreview } from "./contract";
import { xlsTables } from "./old-office";
import { asTable, cellText, MAX_COLUMNS } from "./sheet-table";
import { checkUnpacked } from "./unpacked";

const MAX_BYTES = 1 << 26;
const MAX_TABLES = 50;
/** Rows given of each table: enough to look at, or (to compare) as many as a browser can hold. */
const ROWS = { shown: 200, compared: 20_000 } as const;

/** The sheets of a workbook, or the tables of a database, as text. */
export async function tablesOf(copy: StoredCopy, rows: keyof typeof ROWS): Promise<TablesPreview> {
  const most = ROWS[rows];
  const bytes = await wholeContent(copy, MAX_BYTES, "file");
  if (bytes.subarray(0, 15).toString("latin1") === "SQLite format 3") return databaseTables(bytes, most);
  if (/\.(csv|tsv)$/i.test(copy.name)) return separatedTable(bytes, copy.name, most);
  if (bytes.subarray(0, COMPOUND.length).equals(COMPOUND)) return oldSheets(bytes, most);
  return bytes.subarray(0, 200).includes("opendocument.spreadsheet") ? openSheets(bytes, most) : sheets(bytes, most);
}

/** [MS-CFB] 2.2: what a compound file begins with. */
const COMPOUND = Buffer.from([0xd0, 0xcf, 0x11, 0xe0, 0xa1, 0xb1, 0x1a, 0xe1]);

function oldSheets(bytes: Buffer, most: number): TablesPreview {
  try {
    return xlsTables(bytes, most, MAX_TABLES);
  } catch {
    throw new Problem("This workbook is too damaged to be read. Its bytes are shown instead.", 422);
  }
}

/** A text of separated values (RFC 4180, and with what else stands between the values: it is found out). */
function separatedTable(bytes: Buffer, name: string, most: number): TablesPreview {
  const { data } = Papa.parse<string[]>(decodeText(bytes), { skipEmptyLines: true });
  return { tables: [asTable(name, data, data.length, most)], problem: null };
}

/** Bytes of a sheet's XML that are unpacked while somebody waits. */
const MAX_SHEET = 1 << 25;

/** The sheets of an OpenDocument file (ISO/IEC 26300-1, 9.1: rows and cells, either may say that it is repeated). */
function openSheets(bytes: Buffer, most: number): TablesPreview {
  let xml: string;
  try {
    const parts = unzipSync(bytes, { filter: (part) => part.name === "content.xml" && part.originalSize <= MAX_SHEET });
    xml = strFromU8(parts["content.xml"] as Uint8Array);
  } catch {
    throw new Problem("This workbook is too damaged, or too large, to be read. Its bytes are shown instead.", 422);
  }
  const tables: { name: string; rows: string[][] }[] = [];
  let row: string[] = [];
  let cell: { words: string; repeated: number } | null = null;
  let repeated = 1;
  const times = (text: string | undefined, limit: number) => Math.min(limit, Math.max(1, Math.floor(Number(text ?? 1)) || 1));
  const problem = walkXml(xml, {
    open: (name, attribute) => {
      if (name === "table") tables.push({ name: attribute("name") ?? "", rows: [] });
      else if (name === "table-row") [row, repeated] = [[], times(attribute("number-rows-repeated"), most)];
      else if (name === "table-cell" || name === "covered-table-cell")
        cell = { words: "", repeated: times(attribute("number-columns-repeated"), MAX_COLUMNS) };
    },
    close: (name) => {
      const rows = tables[tables.length - 1]?.rows;
      if (name === "p" && cell) cell.words += "\n";
      else if (name === "table-cell" || name === "covered-table-cell") {
        for (let i = 0; cell && i < cell.repeated && row.length < MAX_COLUMNS; i += 1) row.push(cellText(cell.words.trim()));
        cell = null;
      } else if (name === "table-row" && rows) {
        while (row.at(-1) === "") row.pop();
        // Empty rows to the end of the sheet are said as one that is repeated.
        for (let i = 0; i < repeated && rows.length < most; i += 1) rows.push(row);
      }
    },
    text: (words) => {
      if (cell && cell.words.length < MAX_CELL_WORDS) cell.words += words;
    },
    enough: () => tables.length > MAX_TABLES,
  });
  const read = tables.slice(0, MAX_TABLES).map(({ name, rows }) => {
    while (rows.at(-1)?.every((each) => each === "")) rows.pop();
    return asTable(name, rows, rows.length, most);
  });
  if (read.length === 0) throw new Problem("This workbook is too damaged to be read. Its bytes are shown instead.", 422);
  return { tables: read, problem: problem && `It is damaged behind what is shown: ${problem}.` };
}

const MAX_CELL_WORDS = 1000;

async function sheets(bytes: Buffer, most: number): Promise<TablesPreview> {
  checkUnpacked(bytes);
  const found = await readWorkbook(bytes).catch(() => {
    throw new Problem("This workbook is too damaged to be read. Its bytes are shown instead.", 422);
  });
  const tables = found.slice(0, MAX_TABLES).map(({ sheet, data }) => asTable(sheet, data, data.length, most));
  return { tables, problem: null };
}

/** The tables of a database by name, damaged pages passed by. */
function databaseTables(bytes: Buffer, most: number): TablesPreview {
  const reader = RecordReader.open({ main: new MemorySource(bytes) }, { deleted: false });
  if (!reader) throw new Problem("This database is too damaged to be read. Its bytes are shown instead.", 422);
  const found = new Map<string, { columns: readonly string[]; rows: Row[]; total: number }>();
  for (const { type, name, sql } of reader.schema)
    if (type === "table" && !name.startsWith("sqlite_") && found.size < MAX_TABLES)
      found.set(name, { columns: parseTable(sql)?.columns.map((column) => column.name) ?? [], rows: [], total: 0 });
  for (const row of reader.rows()) {
    const name = row.table ?? `without a name, ${row.columns.length} columns`;
    const table = found.get(name) ?? (row.table === null && found.size < MAX_TABLES ? { columns: row.columns, rows: [], total: 0 } : null);
    if (!table) continue;
    found.set(name, table);
    table.total += 1;
    if (table.rows.length < most) table.rows.push(row);
  }
  const tables = [...found].map(([name, { columns, rows, total }]) => ({
    name,
    columns: columns.slice(0, MAX_COLUMNS),
    rows: rows.map(({ values }) => values.slice(0, MAX_COLUMNS).map(cellText)),
    total,
  }));
  return { tables: tables.sort((a, b) => a.name.localeCompare(b.name, "en")), problem: reader.notes.join(" ") || null };
}

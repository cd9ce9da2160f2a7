import { strFromU8, unzipSync } from "fflate";
import Papa from "papaparse";
import readWorkbook from "read-excel-file/node";
import initSql, { type Database } from "sql.js";
import { walkXml } from "../../core/bytes/xml";
import type { StoredCopy } from "../items/queries";
import { Problem } from "../problem";
import { wholeContent } from "./content";
import type { TablesPreview } from "./contract";
import { xlsTables } from "./old-office";
import { asTable, cellText, MAX_COLUMNS } from "./sheet-table";
import { decodeText } from "./texts";
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

const quoted = (name: string) => `"${name.replaceAll('"', '""')}"`;

async function databaseTables(bytes: Buffer, most: number): Promise<TablesPreview> {
  const sql = await initSql();
  const database = new sql.Database(bytes);
  try {
    const names = database.exec(
      `select name from sqlite_master where type = 'table' and name not like 'sqlite_%' order by name limit ${MAX_TABLES}`,
    );
    const tables: TablesPreview["tables"] = [];
    let problem: string | null = null;
    for (const [name] of names[0]?.values ?? []) {
      try {
        tables.push(readTable(database, String(name), most));
      } catch (error) {
        problem = `The table “${String(name)}” is damaged: ${(error as Error).message}.`;
      }
    }
    return { tables, problem };
  } catch (error) {
    throw new Problem(`This database cannot be read: ${(error as Error).message}. Its bytes are shown instead.`, 422);
  } finally {
    database.close();
  }
}

function readTable(database: Database, name: string, most: number): TablesPreview["tables"][number] {
  const [rows] = database.exec(`select * from ${quoted(name)} limit ${most}`);
  const [count] = database.exec(`select count(*) from ${quoted(name)}`);
  const columns = rows?.columns ?? database.exec(`pragma table_info(${quoted(name)})`)[0]?.values.map((row) => String(row[1])) ?? [];
  return {
    name,
    columns: columns.slice(0, MAX_COLUMNS),
    rows: (rows?.values ?? []).map((row) => row.slice(0, MAX_COLUMNS).map(cellText)),
    total: Number(count?.values[0]?.[0] ?? 0),
  };
}

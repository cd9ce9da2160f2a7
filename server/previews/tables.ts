import { strFromU8, unzipSync } from "fflate";
import Papa from "papaparse";
import readWorkbook from "read-excel-file/node";
import initSql, { type Database } from "sql.js";
import type { StoredCopy } from "../items/queries";
import { Problem } from "../problem";
import { wholeContent } from "./content";
import type { TablesPreview } from "./contract";
import { xlsTables } from "./old-office";
import { asTable, cellText, MAX_COLUMNS } from "./sheet-table";
import { decodeText, xmlText } from "./texts";

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

/** The sheets of an OpenDocument file (ISO/IEC 26300-1, 9.1: rows and cells, either may say that it is repeated). */
function openSheets(bytes: Buffer, most: number): TablesPreview {
  let xml: string;
  try {
    const parts = unzipSync(bytes, { filter: (part) => part.name === "content.xml" && part.originalSize <= MAX_BYTES });
    xml = strFromU8(parts["content.xml"] as Uint8Array);
  } catch {
    throw new Problem("This workbook is too damaged to be read. Its bytes are shown instead.", 422);
  }
  const tables = [...xml.matchAll(/<table:table [^>]*?table:name="([^"]*)"[^>]*>(.*?)<\/table:table>/gs)].slice(0, MAX_TABLES);
  return {
    tables: tables.map(([, name = "", inside = ""]) => {
      const rows: string[][] = [];
      for (const [, , row = ""] of inside.matchAll(/<table:table-row([^>]*?)(?:\/>|>(.*?)<\/table:table-row>)/gs)) {
        if (rows.length >= most) break;
        rows.push(openCells(row));
      }
      while (rows.at(-1)?.every((cell) => cell === "")) rows.pop();
      return asTable(xmlText(name), rows, rows.length, most);
    }),
    problem: null,
  };
}

function openCells(row: string): string[] {
  const cells: string[] = [];
  for (const [, facts = "", inside = ""] of row.matchAll(
    /<table:(?:covered-)?table-cell([^>]*?)(?:\/>|>(.*?)<\/table:(?:covered-)?table-cell>)/gs,
  )) {
    const repeated = Math.min(MAX_COLUMNS, Number(/number-columns-repeated="(\d+)"/.exec(facts)?.[1] ?? 1));
    for (let i = 0; i < repeated && cells.length < MAX_COLUMNS; i += 1) cells.push(cellText(xmlText(inside)));
  }
  while (cells.at(-1) === "") cells.pop();
  return cells;
}

async function sheets(bytes: Buffer, most: number): Promise<TablesPreview> {
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

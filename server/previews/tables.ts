import readWorkbook from "read-excel-file/node";
import initSql, { type Database } from "sql.js";
import type { StoredCopy } from "../items/queries";
import { Problem } from "../problem";
import { wholeContent } from "./content";
import type { TablesPreview } from "./contract";

const MAX_BYTES = 1 << 26;
const MAX_TABLES = 50;
/** Rows given of each table: enough to look at, or (to compare) as many as a browser can hold. */
const ROWS = { shown: 200, compared: 20_000 } as const;
const MAX_COLUMNS = 60;
const MAX_CELL = 300;

/** The sheets of a workbook, or the tables of a database, as text. */
export async function tablesOf(copy: StoredCopy, rows: keyof typeof ROWS): Promise<TablesPreview> {
  const most = ROWS[rows];
  const bytes = await wholeContent(copy, MAX_BYTES, "file");
  return bytes.subarray(0, 15).toString("latin1") === "SQLite format 3" ? databaseTables(bytes, most) : sheets(bytes, most);
}

function cellText(value: unknown): string {
  if (value === null || value === undefined) return "";
  if (value instanceof Date)
    return value
      .toISOString()
      .replace(/T00:00:00\.000Z$/, "")
      .slice(0, 19)
      .replace("T", " ");
  if (value instanceof Uint8Array) return `${value.length} bytes`;
  return String(value).slice(0, MAX_CELL);
}

/** Columns of a sheet as it names them: A … Z, AA … */
function columnName(index: number): string {
  const letter = String.fromCharCode(65 + (index % 26));
  return index < 26 ? letter : columnName(Math.floor(index / 26) - 1) + letter;
}

async function sheets(bytes: Buffer, most: number): Promise<TablesPreview> {
  const found = await readWorkbook(bytes).catch(() => {
    throw new Problem("This workbook is too damaged to be read. Its bytes are shown instead.", 422);
  });
  const tables = found.slice(0, MAX_TABLES).map(({ sheet, data }) => {
    const rows = data.slice(0, most).map((row) => row.slice(0, MAX_COLUMNS).map(cellText));
    const width = rows.reduce((widest, row) => Math.max(widest, row.length), 0);
    return { name: sheet, columns: Array.from({ length: width }, (_, index) => columnName(index)), rows, total: data.length };
  });
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

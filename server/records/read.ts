import Papa from "papaparse";
import type { Row } from "../../core/records/records";
import type { Value } from "../../core/records/sqlite/record";
import { recogniseTimes, secondsOf, type TimeForm } from "../../core/records/times";
import type { Connection } from "../database/connection";
import type { StoredCopy } from "../items/queries";
import { Problem } from "../problem";
import { type RecordsPage, type RecordsQuery, ROWS_AT_ONCE } from "./contract";
import { besideOf, openDatabase } from "./open";

/** Rows of a table that are kept to be looked through; the command line lists all. */
const MOST_ROWS = 100_000;
/** Characters of a value that are shown. */
const LONGEST = 2_000;
/** Characters of a value, and of a whole table, that are written. */
const MOST_CELL = 1 << 20;
const MOST_CSV = 1 << 28;
/** Values of a column that say whether it counts time. */
const SAMPLED = 2_000;

interface Table {
  readonly name: string;
  readonly columns: readonly string[];
  readonly times: (TimeForm | null)[];
  readonly rows: Row[];
  live: number;
  deleted: number;
}

interface Opened {
  readonly tables: readonly Table[];
  readonly beside: readonly string[];
  readonly notes: readonly string[];
}

/** The database that was read last in this process, so that stepping and searching in it does not read it again. */
let last: { key: string; opened: Opened } | null = null;

/** The rows of a table that fit what is looked for. @throws Problem when the copy holds no database */
async function matching(
  db: Connection,
  copy: StoredCopy,
  query: RecordsQuery,
): Promise<{ opened: Opened; table: Table | undefined; matched: Row[] }> {
  const beside = await besideOf(db, copy);
  const key = JSON.stringify([copy.id, copy.size, copy.sourcePath, beside.map(({ id }) => id)]);
  if (last?.key !== key) last = { key, opened: await openRecords(db, copy, beside) };
  const { opened } = last;
  const table = opened.tables[query.table];
  const words = query.find.toLocaleLowerCase("en");
  const has = (value: Value | undefined, i: number) =>
    cellOf(value, table?.times[i] ?? null)
      ?.toLocaleLowerCase("en")
      .includes(words);
  const fits = ({ state, values }: Row) => (query.only === "all" || state === query.only) && (words === "" || values.some(has));
  return { opened, table, matched: table?.rows.filter(fits) ?? [] };
}

/** Reads a page of the rows of a database, with what is left of deleted ones. @throws Problem when the copy holds none */
export async function recordsOf(db: Connection, copy: StoredCopy, query: RecordsQuery): Promise<RecordsPage> {
  const { opened, table, matched } = await matching(db, copy, query);
  const shown = matched.slice(query.from, query.from + ROWS_AT_ONCE);
  const next = query.from + shown.length;
  return {
    tables: opened.tables.map(({ name, live, deleted }) => ({ name, live, deleted })),
    columns: (table?.columns ?? []).map((name, i) => ({ name, time: table?.times[i]?.words ?? null })),
    rows: shown.map(({ values, state, confidence, uncommitted, at, from }) => ({
      cells: values.map((value, i) => cellOf(value, table?.times[i] ?? null)),
      state,
      confidence,
      uncommitted,
      at,
      from,
    })),
    matched: matched.length,
    next: next < matched.length ? next : null,
    beside: [...opened.beside],
    notes: [...opened.notes],
  };
}

/**
 * Writes the rows that fit what is looked for as CSV (RFC 4180): in front what each is; times as dates, bytes in hexadecimal digits. What a sheet would take for a
 * formula gets a mark before it. @throws Problem when the copy holds no database, or the rows are too many
 */
export async function recordsAsCsv(db: Connection, copy: StoredCopy, query: RecordsQuery): Promise<{ name: string; csv: string }> {
  const { table, matched } = await matching(db, copy, query);
  if (!table) throw new Problem("There is no such table.", 404);
  const lines = matched.map(({ values, state, confidence, uncommitted }) => [
    uncommitted ? "never committed" : state,
    confidence,
    ...values.map((value, i) =>
      value instanceof Uint8Array ? Buffer.from(value).toString("hex") : cellOf(value, table.times[i] ?? null, MOST_CELL),
    ),
  ]);
  const csv = Papa.unparse({ fields: ["state", "confidence", ...table.columns], data: lines }, { escapeFormulae: true });
  if (csv.length > MOST_CSV) throw new Problem("These rows are too many for one file here. Look for less, or use `compass records`.", 413);
  return { name: table.name, csv };
}

async function openRecords(db: Connection, copy: StoredCopy, beside: readonly StoredCopy[]): Promise<Opened> {
  const opened = await openDatabase(db, copy);
  if (!opened) throw new Problem("This is no database the bench reads, or nothing of one is left in it.", 422);
  const { reader, close } = opened;
  try {
    const tables = tablesFrom(reader.rows());
    const cut = tables.filter(({ live, deleted, rows }) => live + deleted > rows.length);
    const notes = [
      ...reader.notes,
      ...cut.map(({ name, rows }) => `Of “${name}” only the first ${rows.length} rows are kept here; \`compass records\` lists all.`),
    ];
    return { tables, beside: beside.map(({ name }) => name), notes: [...new Set(notes)] };
  } finally {
    close();
  }
}

/** Sorts rows into their tables, the largest first. */
function tablesFrom(rows: Iterable<Row>): Table[] {
  const tables = new Map<string, Table>();
  for (const row of rows) {
    // What SQLite keeps for itself is nobody's.
    if (row.table?.startsWith("sqlite_")) continue;
    const shape = row.table ?? `table of ${row.columns.length} columns, its name is gone`;
    let table = tables.get(shape);
    if (!table) {
      table = { name: shape, columns: row.columns, times: [], rows: [], live: 0, deleted: 0 };
      tables.set(shape, table);
    }
    table[row.state] += 1;
    if (table.rows.length < MOST_ROWS) table.rows.push(row);
  }
  const now = Date.now() / 1000;
  for (const { columns, times, rows: all } of tables.values())
    columns.forEach((_, i) => {
      const numbers: (number | bigint)[] = [];
      for (const { values } of all) {
        const value = values[i];
        if (typeof value === "string" || value instanceof Uint8Array) break;
        if (typeof value === "number" || typeof value === "bigint") numbers.push(value);
        if (numbers.length >= SAMPLED) break;
      }
      times[i] = recogniseTimes(numbers, now);
    });
  for (const { times, rows: all } of tables.values()) {
    // What was deleted stands among the others, where it was: by its time, else by its number.
    const at = times.findIndex((time) => time !== null);
    const order = ({ values, rowid }: Row) => Number((at < 0 ? rowid : values[at]) ?? Number.POSITIVE_INFINITY);
    all.sort((a, b) => order(a) - order(b) || 0);
  }
  return [...tables.values()].sort((a, b) => b.live + b.deleted - a.live - a.deleted);
}

/** A value as it is shown; null: it is not known. */
function cellOf(value: Value | undefined, time: TimeForm | null, longest = LONGEST): string | null {
  if (value === undefined) return null;
  if (value === null) return "";
  if (value instanceof Uint8Array) return `${value.length} bytes`;
  if (time && typeof value !== "string" && value !== 0) {
    const milliseconds = Math.round(secondsOf(Number(value), time) * 1000);
    if (Math.abs(milliseconds) < 8e15) return new Date(milliseconds).toISOString().slice(0, 19).replace("T", " ");
  }
  return String(value).slice(0, longest);
}

import Papa from "papaparse";
import { shortened } from "../../core/bytes/text";
import type { RecordRow } from "../../core/records/entries/table";
import type { Value } from "../../core/records/sqlite/record";
import { secondsOf, type TimeForm } from "../../core/records/times";
import type { Connection } from "../database/connection";
import type { StoredCopy } from "../items/queries";
import { Problem } from "../problem";
import { type RecordsPage, type RecordsQuery, ROWS_AT_ONCE } from "./contract";
import { type Opened, openRecords, type Table } from "./opened";

/** Characters of a value that are shown. */
const LONGEST = 2_000;
/** Characters of a value, and of a whole table, that are written. */
const MOST_CELL = 1 << 20;
const MOST_CSV = 1 << 28;

/** The rows of a table that fit what is looked for. @throws Problem when the copy holds no database */
async function matching(
  db: Connection,
  copy: StoredCopy,
  query: RecordsQuery,
): Promise<{ opened: Opened; table: Table | undefined; matched: RecordRow[] }> {
  const opened = await openRecords(db, copy, []);
  const table = opened.tables[query.table];
  const words = query.find.toLocaleLowerCase("en");
  const has = (value: Value | undefined, i: number) =>
    cellOf(value, table?.times[i] ?? null)
      ?.toLocaleLowerCase("en")
      .includes(words);
  const fits = ({ state, values }: RecordRow) => (query.only === "all" || state === query.only) && (words === "" || values.some(has));
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
    files: [...opened.files],
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

/** A value as it is shown; null: it is not known. */
function cellOf(value: Value | undefined, time: TimeForm | null, longest = LONGEST): string | null {
  if (value === undefined) return null;
  if (value === null) return "";
  if (value instanceof Uint8Array) return `${value.length} bytes`;
  if (time && typeof value !== "string" && value !== 0) {
    const milliseconds = Math.round(secondsOf(Number(value), time) * 1000);
    if (Math.abs(milliseconds) < 8e15) return new Date(milliseconds).toISOString().slice(0, 19).replace("T", " ");
  }
  return shortened(String(value), longest);
}

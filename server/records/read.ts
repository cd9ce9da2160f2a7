import Papa from "papaparse";
import { describeCell } from "../../core/records/cell-text";
import type { RecordRow } from "../../core/records/entries/table";
import type { Connection } from "../database/connection";
import type { StoredCopy } from "../items/queries";
import { Problem } from "../problem";
import { type ExportPart, type RecordsPage, type RecordsQuery, ROWS_AT_ONCE, SLICE_MS } from "./contract";
import { openRecords } from "./opened";

/** Characters of a value that are shown, and that are written. */
const LONGEST = 2_000;
const MOST_CELL = 1 << 20;
/** Rows, and characters, of one part of what is written. */
const ROWS_A_PART = 10_000;
const PART = 4 << 20;

/** Reads a page of the rows of a database, with what is left of deleted ones; while it is read, of those there are. @throws Problem when the copy holds none */
export async function recordsOf(db: Connection, copy: StoredCopy, query: RecordsQuery): Promise<RecordsPage> {
  const opened = await openRecords(db, copy, [], SLICE_MS);
  const table = opened.table(query.table);
  const matched = table?.find({ words: query.find, only: query.only }) ?? new Uint32Array();
  const shown = [...matched.subarray(query.from, query.from + ROWS_AT_ONCE)].map((place) => table?.rows.at(place) as RecordRow);
  const next = query.from + shown.length;
  return {
    tables: opened.tables.map(({ name, live, deleted }) => ({ name, live, deleted })),
    columns: (table?.columns ?? []).map((name, i) => ({ name, time: table?.times[i]?.words ?? null })),
    rows: shown.map(({ values, state, confidence, uncommitted, former, at, from }) => ({
      cells: values.map((value, i) => describeCell(value, table?.times[i] ?? null, LONGEST)),
      state,
      confidence,
      uncommitted,
      former,
      at,
      from,
    })),
    table: table?.name ?? null,
    matched: matched.length,
    next: next < matched.length ? next : null,
    files: [...opened.files],
    notes: [...opened.notes],
    reading: opened.reading,
  };
}

/**
 * Writes the rows that fit what is looked for as CSV (RFC 4180), a part at a time: in front what each is; times as dates, bytes in hexadecimal digits.
 * What a sheet would take for a formula gets a mark before it. @throws Problem when the copy holds no database
 */
export async function recordsAsCsv(db: Connection, copy: StoredCopy, query: RecordsQuery): Promise<ExportPart> {
  const table = (await openRecords(db, copy, [], Number.POSITIVE_INFINITY)).table(query.table);
  if (!table) throw new Problem("There is no such table.", 404);
  const matched = table.find({ words: query.find, only: query.only });
  const lines: (string | null)[][] = [];
  let [next, length] = [query.from, 0];
  for (; next < matched.length && lines.length < ROWS_A_PART && length < PART; next += 1) {
    const { values, state, confidence, uncommitted, former } = table.rows.at(matched[next] as number) as RecordRow;
    const cells = values.map((value, i) =>
      value instanceof Uint8Array ? Buffer.from(value).toString("hex") : describeCell(value, table.times[i] ?? null, MOST_CELL),
    );
    length += cells.reduce((sum, cell) => sum + (cell?.length ?? 0), 0);
    lines.push([uncommitted ? "never committed" : former ? "of a former table" : state, confidence, ...cells]);
  }
  const fields = ["state", "confidence", ...table.columns];
  const text = Papa.unparse({ fields, data: lines }, { escapeFormulae: true, header: query.from === 0 });
  return { name: table.name, text: next < matched.length ? `${text}\r\n` : text, next: next < matched.length ? next : null };
}

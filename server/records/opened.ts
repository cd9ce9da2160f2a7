import type { RecordRow } from "../../core/records/entries/table";
import type { Row } from "../../core/records/records";
import { recogniseTimes, type TimeForm } from "../../core/records/times";
import type { Connection } from "../database/connection";
import { besideOf, runsOf, type StoredCopy } from "../items/queries";
import { Problem } from "../problem";
import type { RecordFile, Together } from "./contract";
import { joinCopies } from "./joined";
import { openDatabase } from "./open";

/** Rows of a table that are kept to be looked through; the command line lists all. */
const MOST_ROWS = 100_000;
/** Values of a column that say whether it counts time. */
const SAMPLED = 2_000;

export interface Table {
  readonly name: string;
  readonly columns: readonly string[];
  readonly times: (TimeForm | null)[];
  readonly rows: RecordRow[];
  live: number;
  deleted: number;
}

/** A database that was read, or several that are read as one. */
export interface Opened {
  readonly tables: readonly Table[];
  /** The files it was read from; none: there are several databases. */
  readonly files: readonly RecordFile[];
  readonly notes: readonly string[];
  /** Those that are read as one, in the order of `RecordRow.in`; none: it is one database. */
  readonly together: readonly StoredCopy[];
}

/** The database that was read last in this process, so that stepping and searching in it does not read it again. */
let last: { key: string; opened: Opened } | null = null;

/** Reads all rows of a database, or of several of one kind as one. @throws Problem when a copy holds none */
export async function openRecords(db: Connection, copy: StoredCopy, together: Together): Promise<Opened> {
  const beside = await besideOf(db, copy.id);
  const others = together.filter((id) => id !== copy.id);
  const key = JSON.stringify([copy.id, copy.size, copy.sourcePath, beside.map(({ id }) => id), others]);
  if (last?.key !== key) last = { key, opened: others.length > 0 ? await readTogether(db, copy, others) : await readOne(db, copy, beside) };
  return last.opened;
}

async function readOne(db: Connection, copy: StoredCopy, beside: readonly StoredCopy[]): Promise<Opened> {
  const opened = await openDatabase(db, copy);
  if (!opened) throw new Problem("This is no database the bench reads, or nothing of one is left in it.", 422);
  const { reader, close } = opened;
  try {
    const tables = tablesFrom(tabled(reader.rows()));
    const notes = [...reader.notes, ...cutNotes(tables)];
    return { tables, files: [copy, ...beside].map((each) => toRecordFile(each, copy.name)), notes: [...new Set(notes)], together: [] };
  } finally {
    close();
  }
}

const toRecordFile = ({ id, name, size, layout, file }: StoredCopy, database: string): RecordFile => ({
  from: name === database ? "main" : name.endsWith("-wal") ? "log" : "journal",
  copyId: id,
  name,
  size,
  runs: runsOf(layout, file !== null),
});

async function readTogether(db: Connection, copy: StoredCopy, others: readonly number[]): Promise<Opened> {
  const { joined, copies } = await joinCopies(db, copy.jobId, [copy.id, ...others]);
  const rows = joined.tables.flatMap(({ name, columns, rows: all }) =>
    all.map(({ rowid, values, from, deleted, confidence }): Tabled => {
      const state = deleted ? "deleted" : "live";
      return {
        table: name,
        root: null,
        columns,
        row: { values, rowid, state, confidence, uncommitted: false, at: null, from: null, in: from },
      };
    }),
  );
  const tables = tablesFrom(rows);
  const leftOut = joined.tables.reduce((sum, table) => sum + table.leftOut, 0);
  const versions = joined.tables.reduce((sum, table) => sum + table.versions, 0);
  const notes = [
    ...joined.notes,
    ...joined.leftOut,
    ...(leftOut > 0 ? [`${leftOut} remains of rows of which too little stands are left out; each database by itself shows them.`] : []),
    ...(versions > 0 ? [`${versions} other versions of rows are left out: of each row one is shown.`] : []),
    ...cutNotes(tables),
  ];
  return { tables, files: [], notes: [...new Set(notes)], together: copies };
}

const cutNotes = (tables: readonly Table[]) =>
  tables
    .filter(({ live, deleted, rows }) => live + deleted > rows.length)
    .map(({ name, rows }) => `Of “${name}” only the first ${rows.length} rows are kept here; \`compass records\` lists all.`);

/** A row with the table it is of; null: its name is gone. */
interface Tabled {
  readonly table: string | null;
  /** The page its table begins with; null: there are several databases. */
  readonly root: number | null;
  readonly columns: readonly string[];
  readonly row: RecordRow;
}

function* tabled(rows: Iterable<Row>): Generator<Tabled> {
  for (const row of rows) yield { table: row.table, root: row.root, columns: row.columns, row };
}

/** Sorts rows into their tables, the largest first. */
function tablesFrom(rows: Iterable<Tabled>): Table[] {
  const tables = new Map<string, Table>();
  for (const { table: named, root, columns, row } of rows) {
    // What SQLite keeps for itself is nobody's.
    if (named?.startsWith("sqlite_")) continue;
    const shape = named ?? `table of ${columns.length} columns from page ${root} on, its name is gone`;
    let table = tables.get(shape);
    if (!table) {
      table = { name: shape, columns, times: [], rows: [], live: 0, deleted: 0 };
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
    const order = ({ values, rowid }: RecordRow) => Number((at < 0 ? rowid : values[at]) ?? Number.POSITIVE_INFINITY);
    all.sort((a, b) => order(a) - order(b) || 0);
  }
  return [...tables.values()].sort((a, b) => b.live + b.deleted - a.live - a.deleted);
}

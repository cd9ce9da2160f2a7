import { Stepwise } from "../../core/bytes/stepwise";
import type { RecordRow } from "../../core/records/entries/table";
import type { Row } from "../../core/records/row";
import { RowTable } from "../../core/records/row-table";
import type { Connection } from "../database/connection";
import { besideOf, runsOf, type StoredCopy } from "../items/queries";
import { Problem } from "../problem";
import type { RecordFile, Together } from "./contract";
import { joinCopies } from "./joined";
import { openDatabase } from "./open";

/** Bytes that are kept of one table's rows that count, of all tables', and of what is left of others: the command line lists all. */
const MOST_OF_TABLE = 224 << 20;
const MOST_LIVE = 272 << 20;
const MOST_DELETED = 64 << 20;
/** Rows after which who waits for them may be answered. */
const ROWS_A_STEP = 256;
/** A database nobody looks at is forgotten after this. Milliseconds. */
const IDLE_MS = 600_000;

/** A row with the table it is of; null: its name is gone. */
interface Tabled {
  readonly table: string | null;
  /** The page its table begins with; null: there are several databases. */
  readonly root: number | null;
  readonly columns: readonly string[];
  /** Whether the table was dropped, or had other columns then. */
  readonly former: boolean;
  readonly row: RecordRow;
}

/** A database, or several that are read as one, while it is read and afterwards. */
export class Opened {
  readonly #tables = new Map<string, RowTable>();
  /** null: all is read, and what reading it took is forgotten. */
  #work: Stepwise<readonly string[]> | null;
  #notes: readonly string[] = [];
  readonly #left = { live: MOST_LIVE, deleted: MOST_DELETED };
  /** By the columns of a form, one list of them each. */
  readonly #formerNames = new Map<readonly string[], string>();

  /**
   * @param files those it is read from; none: there are several databases
   * @param together those that are read as one, in the order of `RecordRow.in`; none: it is one database
   * @param notesOf what is to be said, once all rows are read
   */
  constructor(
    readonly files: readonly RecordFile[],
    readonly together: readonly StoredCopy[],
    rows: Iterable<Tabled>,
    notesOf: () => readonly string[],
    close: () => void,
  ) {
    this.#work = new Stepwise(this.#read(rows, notesOf, close));
  }

  /** All tables, the largest first. */
  get tables(): readonly RowTable[] {
    return [...this.#tables.values()].sort((a, b) => b.live + b.deleted - a.live - a.deleted);
  }

  table(name: string): RowTable | undefined {
    return name === "" ? this.tables[0] : this.#tables.get(name);
  }

  get notes(): readonly string[] {
    return this.#notes;
  }

  /** How many rows were read so far; null: all are, and they stand in their order. */
  get reading(): number | null {
    return this.#work?.done ?? null;
  }

  /** Reads on for some milliseconds, or to the end. */
  read(milliseconds: number): void {
    const read = this.#work?.run(milliseconds);
    if (!read) return;
    this.#notes = read.value;
    this.#work = null;
  }

  close(): void {
    this.#work?.stop();
  }

  *#read(rows: Iterable<Tabled>, notesOf: () => readonly string[], close: () => void): Generator<number, readonly string[]> {
    let read = 0;
    let notes: readonly string[];
    try {
      for (const row of rows) {
        this.#keep(row);
        read += 1;
        if (read % ROWS_A_STEP === 0) yield read;
      }
      notes = notesOf();
    } finally {
      close();
    }
    for (const table of this.#tables.values()) for (const _ of table.finish()) yield read;
    return [...new Set([...notes, ...this.#cutNotes()])];
  }

  #keep(tabled: Tabled): void {
    const { columns, row } = tabled;
    // What SQLite keeps for itself is nobody's.
    if (tabled.table?.startsWith("sqlite_")) return;
    const name = this.#nameOf(tabled);
    let table = this.#tables.get(name);
    if (!table) {
      table = new RowTable(name, columns);
      this.#tables.set(name, table);
    }
    const most = row.state === "live" ? Math.min(this.#left.live, MOST_OF_TABLE - table.bytes) : this.#left.deleted;
    this.#left[row.state] -= table.append(row, most);
  }

  /** The name of a row's table among those of the database: one that was dropped or made anew may share it with another. */
  #nameOf({ table, root, columns, former }: Tabled): string {
    if (table === null) return `table of ${columns.length} columns from page ${root} on, its name is gone`;
    if (!former) return table;
    const known = this.#formerNames.get(columns);
    if (known !== undefined) return known;
    const names = new Set(this.#formerNames.values());
    let name = `${table}, as it was before`;
    for (let form = 2; names.has(name); form += 1) name = `${table}, as it was before (${form})`;
    this.#formerNames.set(columns, name);
    return name;
  }

  #cutNotes(): string[] {
    return this.tables
      .filter(({ live, deleted, rows }) => live + deleted > rows.length)
      .map(
        ({ name, live, deleted, rows }) =>
          `Of “${name}” only ${rows.length} of ${live + deleted} rows are kept here; \`compass records\` lists all.`,
      );
  }
}

/** The database that was read last in this process, so that stepping and searching in it does not read it again. */
let last: { readonly key: string; readonly opened: Opened; idle: NodeJS.Timeout } | null = null;

/**
 * Opens a database, or several of one kind as one, and reads on in it for some milliseconds (Infinity: to the end); what was read before is
 * kept. @throws Problem when a copy holds none
 */
export async function openRecords(db: Connection, copy: StoredCopy, together: Together, milliseconds: number): Promise<Opened> {
  const beside = await besideOf(db, copy.id);
  const others = together.filter((id) => id !== copy.id);
  const key = JSON.stringify([copy.id, copy.size, copy.sourcePath, beside.map(({ id }) => id), others]);
  if (last?.key !== key) {
    forget();
    const opened = others.length > 0 ? await openTogether(db, copy, others) : await openOne(db, copy, beside);
    last = { key, opened, idle: setTimeout(forget, IDLE_MS).unref() };
  }
  const { opened, idle } = last;
  idle.refresh();
  try {
    opened.read(milliseconds);
  } catch (error) {
    forget();
    throw error;
  }
  return opened;
}

function forget(): void {
  if (!last) return;
  clearTimeout(last.idle);
  last.opened.close();
  last = null;
}

async function openOne(db: Connection, copy: StoredCopy, beside: readonly StoredCopy[]): Promise<Opened> {
  const opened = await openDatabase(db, copy);
  if (!opened) throw new Problem("This is no database the bench reads, or nothing of one is left in it.", 422);
  const { reader, close } = opened;
  const files = [copy, ...beside].map((each) => toRecordFile(each, copy.name));
  return new Opened(files, [], tabled(reader.rows()), () => reader.notes, close);
}

const toRecordFile = ({ id, name, size, layout, file }: StoredCopy, database: string): RecordFile => ({
  from: name === database ? "main" : name.endsWith("-wal") ? "log" : "journal",
  copyId: id,
  name,
  size,
  runs: runsOf(layout, file !== null),
});

function* tabled(rows: Iterable<Row>): Generator<Tabled> {
  for (const row of rows) yield { table: row.table, root: row.root, columns: row.columns, former: row.former, row };
}

async function openTogether(db: Connection, copy: StoredCopy, others: readonly number[]): Promise<Opened> {
  const { joined, copies } = await joinCopies(db, copy.jobId, [copy.id, ...others]);
  const leftOut = joined.tables.reduce((sum, table) => sum + table.leftOut, 0);
  const versions = joined.tables.reduce((sum, table) => sum + table.versions, 0);
  const notes = [
    ...joined.notes,
    ...joined.leftOut,
    ...(leftOut > 0 ? [`${leftOut} remains of rows of which too little stands are left out; each database by itself shows them.`] : []),
    ...(versions > 0 ? [`${versions} other versions of rows are left out: of each row one is shown.`] : []),
  ];
  const rows = function* (): Generator<Tabled> {
    for (const { name, columns, rows: all } of joined.tables)
      for (const { rowid, values, from, deleted, confidence } of all) {
        const state = deleted ? "deleted" : "live";
        const row = { values, rowid, state, confidence, uncommitted: false, former: false, at: null, from: null, in: from } as const;
        yield { table: name, root: null, columns, former: false, row };
      }
  };
  return new Opened(
    [],
    copies,
    rows(),
    () => notes,
    () => undefined,
  );
}

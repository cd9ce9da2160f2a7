import { sql } from "drizzle-orm";
import { type Candidate, type JoinedTable, joinRecords } from "../../core/records/join";
import type { RecordReader, Row } from "../../core/records/records";
import { recogniseTimes, secondsOf, type TimeForm } from "../../core/records/times";
import type { Connection } from "../database/connection";
import { findStoredCopy, type StoredCopy } from "../items/queries";
import { Problem } from "../problem";
import { MOST_CANDIDATES, type RecordCandidates } from "./contract";
import { openDatabase } from "./open";

/** Copies that are opened to see whether they are of the same kind. */
const MOST_OPENED = 60;
/** The format a content was seen to have (`core/formats/sqlite.ts`), whatever its name. */
const DATABASE = "sqlite";
/** How many of the tables of two databases of one kind are the same. */
const ALIKE = 0.6;

interface Found extends Record<string, unknown> {
  id: string;
  item_id: string | null;
  name: string;
  folder: string;
  place: string;
  state: string;
}

const tablesOf = ({ schema }: RecordReader) =>
  new Set(schema.filter(({ type, name }) => type === "table" && !name.startsWith("sqlite_")).map(({ name }) => name.toLowerCase()));

function areAlike(one: ReadonlySet<string>, other: ReadonlySet<string>): boolean {
  const shared = [...one].filter((name) => other.has(name)).length;
  return shared > 0 && shared >= ALIKE * Math.max(one.size, other.size);
}

/** All copies in the job that are databases of the same kind as this one: how far back each goes, and what only it has. */
export async function recordCandidatesOf(db: Connection, copy: StoredCopy): Promise<RecordCandidates> {
  const own = await openDatabase(db, copy);
  if (!own) throw new Problem("This is no database the bench reads, or nothing of one is left in it.", 422);
  const kind = tablesOf(own.reader);
  own.close();
  const { rows } = await db.execute<Found>(sql`
    select c.id, c.item_id, c.name, coalesce(f.path, '') as folder, c.place, c.state from copies c left join folders f on f.id = c.folder_id
    where c.job_id = ${copy.jobId} and c.type = 'file' and c.layout is not null and c.size >= 512
      and (lower(c.name) = lower(${copy.name}) or c.name ~* '\\.(db|sqlite3?|storedata)$' or c.evidence->'content'->>'format' = ${DATABASE})
    order by c.id = ${copy.id} desc, lower(c.name) = lower(${copy.name}) desc, c.modified desc nulls last, c.id limit ${MOST_OPENED}`);
  const notes: string[] = [];
  const chosen: { found: Found; reader: RecordReader; close(): void }[] = [];
  try {
    for (const found of rows) {
      if (chosen.length >= MOST_CANDIDATES) {
        notes.push(`Only ${MOST_CANDIDATES} are compared at once; there may be more.`);
        break;
      }
      const stored = await findStoredCopy(db, Number(found.id));
      const opened = stored && (await openDatabase(db, stored));
      if (!opened) continue;
      const tables = tablesOf(opened.reader);
      if (areAlike(kind, tables)) chosen.push({ found, ...opened });
      else {
        opened.close();
        // Nothing says any more that it is of this kind but its name.
        if (tables.size === 0 && found.name.toLowerCase() === copy.name.toLowerCase())
          notes.push(
            `${found.folder}/${found.name}: the names of its tables are gone, so that it is not compared here. Its rows can be read by themselves.`,
          );
      }
    }
    if (rows.length === MOST_OPENED)
      notes.push(`Only ${MOST_OPENED} copies were opened to see whether they are of this kind; there may be more.`);
    const { notes: said, ...rest } = toCandidates(chosen);
    return { ...rest, notes: [...said, ...notes] };
  } finally {
    for (const each of chosen) each.close();
  }
}

/** A reader whose rows are kept while they are joined. */
function listening(reader: RecordReader, kept: Row[]): Candidate["reader"] {
  return {
    schema: reader.schema,
    get notes() {
      return reader.notes;
    },
    *rows() {
      for (const row of reader.rows()) {
        if (!row.uncommitted && !row.table?.startsWith("sqlite_")) kept.push(row);
        yield row;
      }
    },
  };
}

function toCandidates(chosen: readonly { found: Found; reader: RecordReader }[]): RecordCandidates {
  const rows: Row[][] = chosen.map(() => []);
  const joined = joinRecords(
    chosen.map(({ found, reader }, i) => ({ name: `${found.folder}/${found.name}`, reader: listening(reader, rows[i] as Row[]) })),
  );
  const by = timedTable(joined.tables);
  const candidates = chosen.map(({ found }, i) => {
    const all = rows[i] as Row[];
    const months = new Map<number, [live: number, deleted: number]>();
    let [first, last] = [Number.POSITIVE_INFINITY, Number.NEGATIVE_INFINITY];
    for (const { table, columns, values, state } of all) {
      if (!by || table !== by.table.name) continue;
      const value = values[columns.indexOf(by.column)];
      if ((typeof value !== "number" && typeof value !== "bigint") || value === 0) continue;
      const at = secondsOf(Number(value), by.form) * 1000;
      if (!(Math.abs(at) < 8e15)) continue;
      first = Math.min(first, at);
      last = Math.max(last, at);
      const date = new Date(at);
      const month = date.getUTCFullYear() * 12 + date.getUTCMonth();
      const counts = months.get(month) ?? [0, 0];
      counts[state === "live" ? 0 : 1] += 1;
      months.set(month, counts);
    }
    return {
      copyId: Number(found.id),
      itemId: found.item_id === null ? null : Number(found.item_id),
      name: found.name,
      folder: found.folder,
      place: found.place,
      state: found.state,
      first: Number.isFinite(first) ? Math.round(first) : null,
      last: Number.isFinite(last) ? Math.round(last) : null,
      live: all.filter(({ state }) => state === "live").length,
      deleted: all.filter(({ state }) => state === "deleted").length,
      only: joined.tables.reduce((sum, table) => sum + table.rows.filter(({ from }) => from.length === 1 && from[0] === i).length, 0),
      months: [...months].sort(([a], [b]) => a - b).map(([month, [live, deleted]]): [number, number, number] => [month, live, deleted]),
    };
  });
  // The one that goes back farthest first: that is the one that was lost.
  candidates.sort((a, b) => (a.first ?? Number.MAX_VALUE) - (b.first ?? Number.MAX_VALUE));
  return {
    by: by && { table: by.table.name, column: by.column },
    candidates,
    joined: {
      rows: joined.tables.reduce((sum, table) => sum + table.rows.length, 0),
      deleted: joined.tables.reduce((sum, table) => sum + table.rows.filter(({ deleted }) => deleted).length, 0),
    },
    notes: [...joined.notes, ...joined.leftOut],
  };
}

/** The table with the most rows that have times, and the column they are in. */
function timedTable(tables: readonly JoinedTable[]): { table: JoinedTable; column: string; form: TimeForm } | null {
  const now = Date.now() / 1000;
  for (const table of [...tables].sort((a, b) => b.rows.length - a.rows.length))
    for (const [i, column] of table.columns.entries()) {
      const numbers = table.rows.flatMap(({ values }) =>
        typeof values[i] === "number" || typeof values[i] === "bigint" ? [values[i]] : [],
      );
      const form = numbers.length >= table.rows.length / 2 ? recogniseTimes(numbers as (number | bigint)[], now) : null;
      if (form) return { table, column, form };
    }
  return null;
}

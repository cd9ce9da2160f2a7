import { sql } from "drizzle-orm";
import { Coverage, type TimedColumn, timedColumn } from "../../core/records/coverage";
import { type Candidate, type Joined, joinRecords, TooManyRows } from "../../core/records/join";
import type { RecordReader } from "../../core/records/records";
import type { Row } from "../../core/records/row";
import type { Connection } from "../database/connection";
import { findStoredCopy, type StoredCopy } from "../items/queries";
import { Problem } from "../problem";
import { MOST_CANDIDATES, type RecordCandidates } from "./contract";
import { MOST_JOINED } from "./joined";
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

/**
 * All copies in the job that are databases of the same kind as this one: how far back each goes, and what only it has.
 * @param most rows of all of them above which they are not held against one another
 */
export async function recordCandidatesOf(db: Connection, copy: StoredCopy, most = MOST_JOINED): Promise<RecordCandidates> {
  const own = await openDatabase(db, copy);
  if (!own) throw new Problem("This is no database the bench reads, or nothing of one is left in it.", 422);
  const kind = tablesOf(own.reader);
  own.close();
  const { chosen, notes } = await databasesLike(db, copy, kind);
  const by = await timedColumnOf(db, chosen);
  const compared = await compare(db, chosen, by, most);
  const { joined, coverages } = compared ?? { joined: null, coverages: await goThrough(db, chosen, by) };
  const candidates = chosen.map(({ found }, i) => {
    const { first, last, live, deleted, months } = coverages[i] as Coverage;
    return {
      copyId: Number(found.id),
      itemId: found.item_id === null ? null : Number(found.item_id),
      name: found.name,
      folder: found.folder,
      place: found.place,
      state: found.state,
      first,
      last,
      live,
      deleted,
      only: joined
        ? joined.tables.reduce((sum, { rows }) => sum + rows.filter(({ from }) => from.length === 1 && from[0] === i).length, 0)
        : null,
      months: [...months].sort(([a], [b]) => a - b).map(([month, [alive, gone]]): [number, number, number] => [month, alive, gone]),
    };
  });
  // The one that goes back farthest first: that is the one that was lost.
  candidates.sort((a, b) => (a.first ?? Number.MAX_VALUE) - (b.first ?? Number.MAX_VALUE));
  const said = joined
    ? [...joined.notes, ...joined.leftOut]
    : [
        chosen.length === 1
          ? `It has more than ${most.toLocaleString("en")} rows: they are not held against one another here.`
          : `They have more than ${most.toLocaleString("en")} rows together: what only one of them has is not counted here, and they are joined by \`compass join\` alone.`,
      ];
  return {
    by: by && { table: by.table, column: by.column },
    candidates,
    joined: joined && {
      rows: joined.tables.reduce((sum, { rows }) => sum + rows.length, 0),
      deleted: joined.tables.reduce((sum, { rows }) => sum + rows.filter(({ deleted }) => deleted).length, 0),
    },
    notes: [...said, ...notes],
  };
}

interface Chosen {
  readonly found: Found;
  readonly stored: StoredCopy;
}

/** The copies of a job whose tables are those of a kind, the one that is asked about first. */
async function databasesLike(
  db: Connection,
  copy: StoredCopy,
  kind: ReadonlySet<string>,
): Promise<{ readonly chosen: readonly Chosen[]; readonly notes: readonly string[] }> {
  const { rows } = await db.execute<Found>(sql`
    select c.id, c.item_id, c.name, coalesce(f.path, '') as folder, c.place, c.state from copies c left join folders f on f.id = c.folder_id
    where c.job_id = ${copy.jobId} and c.type = 'file' and c.layout is not null and c.size >= 512
      and (lower(c.name) = lower(${copy.name}) or c.name ~* '\\.(db|sqlite3?|storedata)$' or c.evidence->'content'->>'format' = ${DATABASE})
    order by c.id = ${copy.id} desc, lower(c.name) = lower(${copy.name}) desc, c.modified desc nulls last, c.id limit ${MOST_OPENED}`);
  const notes: string[] = [];
  const chosen: Chosen[] = [];
  for (const found of rows) {
    if (chosen.length >= MOST_CANDIDATES) {
      notes.push(`Only ${MOST_CANDIDATES} are compared at once; there may be more.`);
      break;
    }
    const stored = await findStoredCopy(db, Number(found.id));
    const opened = stored && (await openDatabase(db, stored));
    if (!opened) continue;
    const tables = tablesOf(opened.reader);
    opened.close();
    if (areAlike(kind, tables)) chosen.push({ found, stored });
    // Nothing says any more that it is of this kind but its name.
    else if (tables.size === 0 && found.name.toLowerCase() === copy.name.toLowerCase())
      notes.push(
        `${found.folder}/${found.name}: the names of its tables are gone, so that it is not compared here. Its rows can be read by themselves.`,
      );
  }
  if (rows.length === MOST_OPENED)
    notes.push(`Only ${MOST_OPENED} copies were opened to see whether they are of this kind; there may be more.`);
  return { chosen, notes };
}

/** Rows that are the client's: neither SQLite's own, nor never committed. */
function* ownRows(reader: RecordReader): Generator<Row> {
  for (const row of reader.rows()) if (!row.uncommitted && !row.table?.startsWith("sqlite_")) yield row;
}

/** Opens each of the databases in its turn, and gives it to `use`. A reader goes through its rows once: whoever wants them again opens it again. */
async function withEach<T>(db: Connection, chosen: readonly Chosen[], use: (reader: RecordReader) => T): Promise<T[]> {
  const results: T[] = [];
  for (const { stored } of chosen) {
    const opened = await openDatabase(db, stored);
    if (!opened) throw new Problem(`${stored.name} cannot be read any more.`, 409);
    try {
      results.push(use(opened.reader));
    } finally {
      opened.close();
    }
  }
  return results;
}

/** The column that tells how far they go, by the database with the most rows in a table with times. */
async function timedColumnOf(db: Connection, chosen: readonly Chosen[]): Promise<TimedColumn | null> {
  const now = Date.now() / 1000;
  const found = await withEach(db, chosen, (reader) => timedColumn(ownRows(reader), now));
  return found.reduce((best, each) => (each && each.rows > (best?.rows ?? 0) ? each : best), null);
}

async function goThrough(db: Connection, chosen: readonly Chosen[], by: TimedColumn | null): Promise<Coverage[]> {
  return withEach(db, chosen, (reader) => {
    const coverage = new Coverage(by);
    for (const row of ownRows(reader)) coverage.add(row);
    return coverage;
  });
}

/** Holds the databases against one another, row by row. @returns null when they have too many rows */
async function compare(
  db: Connection,
  chosen: readonly Chosen[],
  by: TimedColumn | null,
  most: number,
): Promise<{ readonly joined: Joined; readonly coverages: readonly Coverage[] } | null> {
  const opened: { reader: RecordReader; close(): void }[] = [];
  try {
    for (const { stored } of chosen) {
      const database = await openDatabase(db, stored);
      if (!database) throw new Problem(`${stored.name} cannot be read any more.`, 409);
      opened.push(database);
    }
    const coverages = chosen.map(() => new Coverage(by));
    const candidates = chosen.map(({ found }, i): Candidate => {
      const { reader } = opened[i] as (typeof opened)[number];
      return { name: `${found.folder}/${found.name}`, reader: covered(reader, coverages[i] as Coverage) };
    });
    return { joined: joinRecords(candidates, most), coverages };
  } catch (error) {
    if (error instanceof TooManyRows) return null;
    throw error;
  } finally {
    for (const each of opened) each.close();
  }
}

/** A reader whose rows are counted while they are joined. */
function covered(reader: RecordReader, coverage: Coverage): Candidate["reader"] {
  return {
    schema: reader.schema,
    get notes() {
      return reader.notes;
    },
    *rows() {
      for (const row of reader.rows()) {
        if (!row.uncommitted && !row.table?.startsWith("sqlite_")) coverage.add(row);
        yield row;
      }
    },
  };
}

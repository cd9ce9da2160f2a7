import { type SQL, sql } from "drizzle-orm";
import type { Connection, Database } from "../database/connection";
import { Problem } from "../problem";
import { type Item, type ItemPage, type ItemQuery, type Mark, PAGE, type Spine } from "./contract";
import { filterCondition } from "./filter";
import { firstAsOf, orderKey } from "./list-as-of";
import { type AsOf, itemsAsOf, itemsToLookAt } from "./moments";

const MAX_MARKS = 24;

export interface ItemRow extends Record<string, unknown> {
  id: string;
  name: string;
  folder: string;
  kind: string;
  lost: boolean;
  copies: number;
  best_copy_id: string;
  size: string;
  modified: Date | null;
  condition: Item["condition"];
  survival: number;
  in_tray: boolean;
  chosen: number;
  opens: Item["opens"];
  live: boolean;
  created: string | null;
  deleted_at: string | null;
  volume: string;
  facts: Item["facts"];
}

export const itemOf = (row: ItemRow): Omit<Item, "marks"> => ({
  id: Number(row.id),
  name: row.name,
  folder: row.folder,
  kind: row.kind,
  lost: row.lost,
  copies: row.copies,
  bestCopyId: Number(row.best_copy_id),
  size: Number(row.size),
  modified: row.modified ? new Date(row.modified) : null,
  condition: row.condition,
  survival: row.survival,
  inTray: row.in_tray,
  alsoInTray: row.chosen - (row.in_tray ? 1 : 0),
  opens: row.opens,
  live: row.live,
  created: row.created ? new Date(row.created) : null,
  deletedAt: row.deleted_at ? new Date(row.deleted_at) : null,
  volume: row.volume,
  facts: row.facts,
});

export const ITEM_COLUMNS = sql`i.id, i.name, f.path as folder, i.kind, i.lost, i.copies, i.best_copy_id, i.size, i.modified, i.condition,
  i.survival, i.facts, t.in_tray, t.chosen, i.opens, i.live, i.created, i.deleted_at, h.label as volume`;
const ITEM_JOINS = sql`join folders f on f.id = i.folder_id join homes h on h.id = f.home_id cross join lateral (
  select coalesce(bool_or(coalesce(e.copy_id, i.best_copy_id) = i.best_copy_id), false) as in_tray, count(distinct coalesce(e.copy_id, i.best_copy_id))::int as chosen
  from tray_entries e where e.job_id = i.job_id and e.item_id = i.id) t`;
export const ITEM_TABLES = sql`items i ${ITEM_JOINS}`;

const direction = (query: ItemQuery) => (query.order === "down" ? sql`desc` : sql`asc`);
const orderBy = (query: ItemQuery) => sql`${orderKey(query).by} ${direction(query)}, i.id ${direction(query)}`;

type KeyedRow = ItemRow & { sort_key: string };

/** A page of items in the wanted order, from after a cursor. */
export async function listItems(db: Database, jobId: number, query: ItemQuery): Promise<ItemPage> {
  const rows = await firstOf(db, jobId, query);
  const page = rows.slice(0, query.limit);
  const last = page[page.length - 1];
  const marks = await marksOf(
    db,
    page.map((row) => Number(row.id)),
  );
  const then = query.asOf === undefined ? null : await itemsAsOf(db, [...marks.keys()], query.asOf, query);
  return {
    items: page.map((row) => ({ ...itemOf(row), ...asItWas(then?.get(Number(row.id))), marks: marks.get(Number(row.id)) ?? [] })),
    next: rows.length > query.limit && last ? writeCursor(last.sort_key, Number(last.id)) : null,
  };
}

/** What a list as of a moment shows of an item: the copy that stood then, where there is one. */
function asItWas(then: AsOf | undefined): Partial<Item> {
  if (!then) return {};
  const { version, since } = then;
  return version ? { ...version, live: false, since } : { since };
}

/** Beyond as many matches a page is filled sooner by walking the order's index than by finding all and sorting them. */
const BROAD = 3000;
/** So many items of the order are walked through for a page at most. */
const WALK = 20_000;

/**
 * Reads the first items that match, in order, and one more. Where the database's statistics say that many match, a bounded part of the order is
 * walked through (as of a moment two, in an order of values of then); where that does not fill the page, or few match, the matches are found by their own indexes and sorted. The choice is
 * not left to the database: it takes matches as spread evenly and its count of them for right, and both can be wrong a hundredfold for a pattern.
 */
async function firstOf(db: Database, jobId: number, query: ItemQuery): Promise<KeyedRow[]> {
  const where = await filterCondition(db, jobId, query);
  const { by, type } = orderKey(query);
  const after = query.after ? readCursor(query.after) : null;
  const sign = query.order === "down" ? sql`<` : sql`>`;
  const beyond = after ? sql`and (${by}, i.id) ${sign} (${after.key}::${type}, ${after.id}::bigint)` : sql``;
  const most = query.limit + 1;
  const keyed = sql`i.*, ${by} as sort_by`;
  // By the key's column, not by its expression: so it is known to be in order already where it was walked in order.
  const ordered = sql`order by sort_by ${direction(query)}, i.id ${direction(query)}`;
  const first = async (of: SQL) => {
    const page = sql`select i.* from (${of}) i ${ordered} limit ${most}`;
    const { rows } = await db.execute<KeyedRow>(
      sql`select ${ITEM_COLUMNS}, sort_by::text as sort_key from (${page}) i ${ITEM_JOINS} ${ordered}`,
    );
    return rows;
  };
  // Of values of another time there are no statistics.
  if (query.asOf !== undefined || (await guessedCount(db, where)) >= BROAD) {
    const walk = sql`select ${keyed} from items i where i.job_id = ${jobId} ${beyond} ${ordered} limit ${WALK}`;
    const { asOf } = query;
    const walks =
      query.sort === "name" || asOf === undefined
        ? [sql`select i.* from (${walk}) i where ${where}`]
        : firstAsOf(jobId, { ...query, asOf }, where, after, most);
    for (const each of walks) {
      const rows = await first(each);
      if (rows.length === most) return rows;
    }
  }
  // The offset keeps the limit from what chooses the indexes.
  return first(sql`select ${keyed} from ${itemsToLookAt(jobId, query)} i where ${where} ${beyond} offset 0`);
}

/** How many items the database takes to match, from its statistics. */
async function guessedCount(db: Connection, where: SQL): Promise<number> {
  const { rows } = await db.execute<{ "QUERY PLAN": { Plan: { "Plan Rows": number } }[] }>(
    sql`explain (format json) select 1 from items i where ${where}`,
  );
  return rows[0]?.["QUERY PLAN"][0]?.Plan["Plan Rows"] ?? 0;
}

/** The copies of each item for its ribbon, the newest first where there are very many. */
async function marksOf(db: Connection, ids: readonly number[]): Promise<Map<number, Mark[]>> {
  if (ids.length === 0) return new Map();
  const { rows } = await db.execute<{ item_id: string; marks: Mark[] }>(sql`
    select item_id, json_agg(json_build_object('at', (extract(epoch from modified) * 1000)::bigint, 'place', place,
      'condition', condition, 'survival', survival, 'live', state = 'live') order by modified) as marks
    from (select item_id, modified, place, condition, survival, state,
            row_number() over (partition by item_id order by modified desc nulls last) as rank
          from copies where item_id = any(${sql.raw(`'{${ids.join(",")}}'::bigint[]`)})) c
    where rank <= ${MAX_MARKS} group by item_id`);
  return new Map(rows.map((row) => [Number(row.item_id), row.marks]));
}

/** How many items match and where each page begins: one walk along the index, so that no page has to be counted to. */
export async function spineOf(db: Connection, jobId: number, query: ItemQuery): Promise<Spine> {
  const where = await filterCondition(db, jobId, query);
  const { by } = orderKey(query);
  const { rows } = await db.execute<{ key: string; id: string; n: string; count: string }>(sql`
    select key, id, n, count from (
      select (${by})::text as key, i.id, row_number() over (order by ${orderBy(query)}) as n, count(*) over () as count
      from ${itemsToLookAt(jobId, query)} i where ${where}) s
    where n % ${PAGE} = 0 or n = count order by n`);
  const count = Number(rows[0]?.count ?? 0);
  const starts = rows.filter((row) => Number(row.n) % PAGE === 0 && Number(row.n) < count);
  return { count, starts: starts.map((row) => writeCursor(row.key, Number(row.id))) };
}

/** Where an item stands in the list as it is narrowed and ordered, counted from 0; null: it is not in it. */
export async function positionOf(db: Connection, jobId: number, query: ItemQuery, itemId: number): Promise<number | null> {
  const where = await filterCondition(db, jobId, query);
  const { by } = orderKey(query);
  const { rows } = await db.execute<{ index: string | null }>(sql`
    select case when exists (select 1 from items i where i.id = ${itemId} and ${where}) then (
      select count(*) from items i where ${where} and (${by}, i.id) ${query.order === "down" ? sql`>` : sql`<`} (select ${by}, i.id from items i where i.id = ${itemId})) end as index`);
  const index = rows[0]?.index;
  return index == null ? null : Number(index);
}

/** The ids between two items of the list as it is ordered, both included. */
export async function idsBetween(db: Connection, jobId: number, query: ItemQuery, first: number, last: number): Promise<SQL> {
  const where = await filterCondition(db, jobId, query);
  const { by } = orderKey(query);
  const end = (id: number) => sql`(select ${by}, i.id from items i where i.job_id = ${jobId} and i.id = ${id})`;
  return sql`select i.id from items i where ${where} and (
    ((${by}, i.id) >= ${end(first)} and (${by}, i.id) <= ${end(last)}) or ((${by}, i.id) >= ${end(last)} and (${by}, i.id) <= ${end(first)}))`;
}

const writeCursor = (key: string, id: number) => Buffer.from(JSON.stringify([key, id])).toString("base64url");

function readCursor(cursor: string): { key: string; id: number } {
  try {
    const [key, id] = JSON.parse(Buffer.from(cursor, "base64url").toString()) as [unknown, unknown];
    if (typeof key === "string" && typeof id === "number") return { key, id };
  } catch {
    // Falls through to the same answer as a cursor of the wrong shape.
  }
  throw new Problem("The place to go on from is not valid. Load the list anew.");
}

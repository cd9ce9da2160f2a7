import { type SQL, sql } from "drizzle-orm";
import type { Connection, Database } from "../database/connection";
import { type Item, type ItemPage, type ItemQuery, type Mark, PAGE, type Spine } from "./contract";
import { filterCondition } from "./filter";
import { ITEM_COLUMNS, ITEM_JOINS, type ItemRow, itemOf } from "./item-row";
import { firstAsOf } from "./list-as-of";
import { type Cursor, listOrder, readCursor, walkBounds, writeCursor } from "./list-order";
import { firstVersions } from "./list-versions";
import { BROAD, guessedCount, matchingRows } from "./matching";
import { type AsOf, itemsAsOf } from "./moments";
import { allRows, rowsThat } from "./version-rows";
import { VERSION_COLUMNS, VERSION_JOINS, type VersionRow, versionsOf } from "./versions";

const MAX_MARKS = 24;

type KeyedRow = (ItemRow | VersionRow) & { cursor: string[] };

/** A page of items in the wanted order, from after a cursor; or of versions. */
export async function listItems(db: Database, jobId: number, query: ItemQuery): Promise<ItemPage> {
  const rows = await firstOf(db, jobId, query);
  const page = rows.slice(0, query.limit);
  const last = page[page.length - 1];
  return {
    items: query.rows ? await versionsOf(db, jobId, page as VersionRow[]) : await itemsOf(db, page, query),
    next: rows.length > query.limit && last ? writeCursor(last.cursor) : null,
  };
}

async function itemsOf(db: Connection, page: readonly ItemRow[], query: ItemQuery): Promise<Item[]> {
  const ids = page.map((row) => Number(row.id));
  const marks = await marksOf(db, ids);
  const then = query.asOf === undefined ? null : await itemsAsOf(db, ids, query.asOf, query);
  return page.map((row) => ({ ...itemOf(row), ...asItWas(then?.get(Number(row.id))), marks: marks.get(Number(row.id)) ?? [] }));
}

/** What a list as of a moment shows of an item: the copy that stood then, where there is one. */
function asItWas(then: AsOf | undefined): Partial<Item> {
  if (!then) return {};
  const { version, since } = then;
  return version ? { ...version, live: false, since } : { since };
}

/** So many items of the order are walked through for a page at most. */
const WALK = 20_000;

/**
 * Reads the first items that match, in order, and one more. Where the database's statistics say that many match, a bounded part of the order is
 * walked through (as of a moment two, in an order of values of then); where that does not fill the page, or few match, the matches are found by their own indexes and sorted. The choice is
 * not left to the database: it takes matches as spread evenly and its count of them for right, and both can be wrong a hundredfold for a pattern.
 */
async function firstOf(db: Database, jobId: number, query: ItemQuery): Promise<KeyedRow[]> {
  const condition = await filterCondition(db, jobId, query);
  const order = listOrder(query);
  const after = query.after ? readCursor(query.after, query) : null;
  const where = after ? sql`${condition} and ${order.beyond(after)}` : condition;
  const most = query.limit + 1;
  const keyed = sql`i.*, ${order.by} as sort_by`;
  const [columns, joins] = query.rows ? [VERSION_COLUMNS, VERSION_JOINS] : [ITEM_COLUMNS, ITEM_JOINS];
  const first = async (of: SQL) => {
    const page = sql`select i.* from (${of}) i order by ${order.orderBySorted} limit ${most}`;
    const { rows } = await db.execute<KeyedRow>(
      sql`select ${columns}, ${order.cursorSorted} as cursor from (${page}) i ${joins} order by ${order.orderBySorted}`,
    );
    return rows;
  };
  // Of values of another time there are no statistics.
  if (query.asOf !== undefined || (await guessedCount(db, jobId, query, condition)) >= BROAD)
    for (const walk of walksOf(jobId, query, condition, where, after, most)) {
      const rows = await first(walk);
      if (rows.length === most) return rows;
      // The next one goes ten to twenty times as far.
      if (rows.length * 20 < most) break;
    }
  // The offset keeps the limit from what chooses the indexes.
  return first(sql`select ${keyed} from ${rowsThat(jobId, query, where, true)} i offset 0`);
}

/** Queries for the rows in bounded parts of a list's order, each larger than the one before. @param condition without, `where` with that they come after `after` */
function walksOf(jobId: number, query: ItemQuery, condition: SQL, where: SQL, after: Cursor | null, most: number): SQL[] {
  const order = listOrder(query);
  if (query.rows) return firstVersions(jobId, query, where, after).map((each) => sql`select i.*, ${order.by} as sort_by from (${each}) i`);
  const { asOf } = query;
  if (query.sort !== "name" && asOf !== undefined) return firstAsOf(jobId, { ...query, asOf }, condition, after, most);
  const beyond = after ? sql`and ${order.beyond(after)}` : sql``;
  const walk = sql`select i.*, ${order.by} as sort_by from items i
    where i.job_id = ${jobId} ${beyond} ${walkBounds(query, order.by)} order by ${order.orderBy} limit ${WALK}`;
  return [sql`select i.* from (${walk}) i where ${condition}`];
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

/** How many rows match and where each page begins: one walk along the index, so that no page has to be counted to. */
export async function spineOf(db: Connection, jobId: number, query: ItemQuery): Promise<Spine> {
  const matching = await matchingRows(db, jobId, query);
  const { orderBy, terms } = listOrder(query);
  // Only what begins a page is written as a cursor.
  const columns = terms.map(({ by }, index) => sql`${by} as ${sql.raw(`t${index}`)}`);
  const texts = terms.map((_, index) => sql`${sql.raw(`t${index}`)}::text`);
  const { rows } = await db.execute<{ cursor: string[]; n: string; last: boolean }>(sql`
    select array[${sql.join(texts, sql`, `)}] as cursor, n, last from (
      select ${sql.join(columns, sql`, `)}, row_number() over w as n, lead(i.id) over w is null as last
      from ${matching} i window w as (order by ${orderBy})) s
    where n % ${PAGE} = 0 or last order by n`);
  const count = Number(rows[rows.length - 1]?.n ?? 0);
  const starts = rows.filter(({ n, last }) => Number(n) % PAGE === 0 && !last);
  return { count, starts: starts.map(({ cursor }) => writeCursor(cursor)) };
}

/** Where a row stands in the list as it is narrowed and ordered, counted from 0; null: it is not in it. @param id of the item, or of the version's copy */
export async function positionOf(db: Connection, jobId: number, query: ItemQuery, id: number): Promise<number | null> {
  const { columns } = listOrder(query);
  const { rows } = await db.execute<{ index: string; found: boolean | null }>(sql`
    select count(*) filter (where i.id <> ${id}) as index, bool_or(i.id = ${id}) as found from ${await matchingRows(db, jobId, query)} i
    where (${columns}) ${query.order === "down" ? sql`>=` : sql`<=`} (select ${columns} from ${allRows(query)} i where i.id = ${id})`);
  return rows[0]?.found ? Number(rows[0].index) : null;
}

/** The ids between two rows of the list as it is ordered, both included. */
export async function idsBetween(db: Connection, jobId: number, query: ItemQuery, first: number, last: number): Promise<SQL> {
  const { columns } = listOrder(query);
  const end = (id: number) => sql`(select ${columns} from ${allRows(query)} i where i.job_id = ${jobId} and i.id = ${id})`;
  return sql`select i.id from ${await matchingRows(db, jobId, query)} i where (
    ((${columns}) >= ${end(first)} and (${columns}) <= ${end(last)}) or ((${columns}) >= ${end(last)} and (${columns}) <= ${end(first)}))`;
}

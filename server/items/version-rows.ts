import { type SQL, sql } from "drizzle-orm";
import { OPENS } from "../passes/best-copy";
import type { ItemFilter, ItemQuery } from "./contract";
import { CHANGING_ORDERS } from "./list-as-of";
import type { Cursor } from "./list-order";
import { inScope, itemsToLookAt } from "./moments";

/** When a copy was last changed, as far as anything says: its own date, or the first state that has it. */
export const changedOf = (copy: SQL) => sql`coalesce(${copy}.modified, lower(${copy}.present))`;
/** Whether a copy has content of a file that can be read here. */
export const hasContent = (copy: SQL) => sql`${copy}.type = 'file' and ${copy}.condition <> 'name-only' and ${copy}.absent is null`;

/**
 * The copies of a job's items as a table with the columns that lists, conditions and counts know of `items`, and a few of a copy: so a list has a row for each
 * version. The id is the copy's; `then_id` is set where it is one of a snapshot or backup set.
 */
const VERSIONS = sql`(
  select c.id, c.item_id, c.job_id, i.folder_id, i.name, i.kind, i.lost, i.copies, i.best_copy_id, array[c.place] as places, array[c.store_id] as stores,
    c.store_id, c.set_key, c.place, c.present, case when c.present is null then null else c.id end as then_id, c.size, c.modified, c.condition,
    c.survival, c.facts, c.state = 'live' as live, ${sql.raw(OPENS("c"))} as opens, c.created, c.deleted_at, i.extension
  from copies c join items i on i.id = c.item_id)`;

/** The order of versions `c` of one file, the newest first: of those changed at one time, the one of which most is left. */
export const NEWEST_FIRST = sql`${changedOf(sql`c`)} desc nulls last, array_position(array['whole', 'partial', 'not-checked', 'name-only'], c.condition), c.id`;

/**
 * The rows of a list, as a table: its items, or versions, that match. Which version of an item is the newest in the list's source, volume or sets is looked up for
 * items with a match alone; it is one with content, where there are any.
 * @param where the condition on rows `i`
 */
export function matchingRows(jobId: number, filter: ItemFilter, where: SQL): SQL {
  if (filter.rows === undefined) return sql`(select i.* from ${itemsToLookAt(jobId, filter)} i where ${where})`;
  if (filter.rows === "each") return sql`(select i.* from ${VERSIONS} i where ${where})`;
  return sql`(
    with m as materialized (select i.* from ${VERSIONS} i where ${where})
    select m.* from m where m.id in (
      select distinct on (c.item_id) c.id from copies c where c.item_id in (select m.item_id from m) and ${inScope(filter)}
      order by c.item_id, (${hasContent(sql`c`)}) desc, ${NEWEST_FIRST}))`;
}

/** So many items, or versions, of an order are walked through for a page; more where that was not enough. */
const STEPS = [2_000, 20_000] as const;

/**
 * The first versions of a list in its order, from bounded parts of the order's indexes.
 * @param where the condition on versions `i`, with that they are beyond `after`
 * @returns queries that look at more each: where as many rows come as are wanted, they are the first ones
 */
export function firstVersions(jobId: number, query: ItemQuery, where: SQL, after: Cursor | null): SQL[] {
  const rowsWhere = (walked: SQL) => sql`select i.* from ${matchingRows(jobId, query, sql`${walked} and ${where}`)} i`;
  const down = query.order === "down";
  const direction = down ? sql`desc` : sql`asc`;
  const from = (key: SQL, type: SQL, id: SQL) =>
    after ? sql`and (${key}, ${id}) ${down ? sql`<=` : sql`>=`} (${after[0]}::${type}, ${after[1]}::bigint)` : sql``;
  if (query.sort === "name") {
    const name = sql`(lower(o.name) collate "C")`;
    return STEPS.map((step) =>
      rowsWhere(sql`i.item_id in (
        select o.id from items o where o.job_id = ${jobId} ${from(name, sql`text`, sql`o.id`)} order by ${name} ${direction}, o.id ${direction} limit ${step})`),
    );
  }
  // Of each order there are two indexes: of versions in snapshots and sets, and of all others.
  const { column, type, of } = CHANGING_ORDERS[query.sort];
  const key = of(sql`c.${sql.raw(column)}`);
  const walk = (which: SQL, step: number) => sql`(
    select c.id, c.item_id, ${key} as key from copies c where c.job_id = ${jobId} and c.present ${which} ${from(key, type, sql`c.item_id`)}
    order by ${key} ${direction}, c.item_id ${direction} limit ${step})`;
  // Versions of one item with one key have no order in the index: the last group of a walk may be cut, so it is left to the next step.
  const back = down ? sql`asc` : sql`desc`;
  return STEPS.map((step) =>
    rowsWhere(sql`i.id in (
      with walked as materialized (
        select * from (${walk(sql`is not null`, step)} union all ${walk(sql`is null`, step)}) w order by key ${direction}, item_id ${direction} limit ${step}
      ), ends as (
        select key, item_id from walked where (select count(*) from walked) = ${step} order by key ${back}, item_id ${back} limit 1
      )
      select w.id from walked w where not exists (select 1 from ends) or (w.key, w.item_id) ${down ? sql`>` : sql`<`} (select key, item_id from ends))`),
  );
}

import { type SQL, sql } from "drizzle-orm";
import { OPENS } from "../passes/best-copy";
import type { ItemFilter } from "./contract";
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

/** All rows a list may have, as a table `i`: where one stands in an order follows from it alone. */
export const allRows = ({ rows }: Pick<ItemFilter, "rows">): SQL => (rows ? VERSIONS : sql`items`);

/**
 * The rows of a list, as a table: its items, or versions, that match. Of an item the newest version in the list's source, volume or sets is one with content, where
 * there are any.
 * @param where the condition on rows `i` @param few the newest are looked up for items with a match alone, which is quicker where they are few
 */
export function rowsThat(jobId: number, filter: ItemFilter, where: SQL, few: boolean): SQL {
  if (filter.rows === undefined) return sql`(select i.* from ${itemsToLookAt(jobId, filter)} i where ${where})`;
  if (filter.rows === "each") return sql`(select i.* from ${VERSIONS} i where ${where})`;
  const newest = (inQuestion: SQL) => sql`
    select distinct on (c.item_id) c.id as newest_id from copies c where ${inQuestion} and ${inScope(filter)}
    order by c.item_id, (${hasContent(sql`c`)}) desc, ${NEWEST_FIRST}`;
  if (!few)
    return sql`(
    select i.* from ${VERSIONS} i join (${newest(sql`c.job_id = ${jobId} and c.item_id is not null`)}) n on n.newest_id = i.id where ${where})`;
  return sql`(
    with m as materialized (select i.* from ${VERSIONS} i where ${where})
    select m.* from m where m.id in (select n.newest_id from (${newest(sql`c.item_id in (select m.item_id from m)`)}) n))`;
}

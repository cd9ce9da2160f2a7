import { type SQL, sql } from "drizzle-orm";
import type { ItemQuery } from "./contract";
import { CHANGING_ORDERS, type Cursor, walkBounds } from "./list-order";
import { rowsThat } from "./version-rows";

/** So many items, or versions, of an order are walked through for a page; more where that was not enough. */
const STEPS = [2_000, 20_000] as const;

/**
 * The first versions of a list in its order, from bounded parts of the order's indexes.
 * @param where the condition on versions `i`, with that they are beyond `after`
 * @returns queries that look at more each: where as many rows come as are wanted, they are the first ones
 */
export function firstVersions(jobId: number, query: ItemQuery, where: SQL, after: Cursor | null): SQL[] {
  const rowsWhere = (walked: SQL) => sql`select i.* from ${rowsThat(jobId, query, sql`${walked} and ${where}`, true)} i`;
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
  // Of each order there is an index of versions in snapshots and sets; of the others, which no set has, by date alone.
  const { column, type, of } = CHANGING_ORDERS[query.sort];
  const key = of(sql`c.${sql.raw(column)}`);
  const walk = (which: SQL, step: number) => sql`(
    select c.id, c.item_id, ${key} as key from copies c where c.job_id = ${jobId} and c.present ${which} ${from(key, type, sql`c.item_id`)} ${walkBounds(query, key)}
    order by ${key} ${direction}, c.item_id ${direction} limit ${step})`;
  const others = (step: number) => (query.set ? sql`` : sql`union all ${walk(sql`is null`, step)}`);
  // Versions of one item with one key have no order in the index: the last group of a walk may be cut, so it is left to the next step.
  const back = down ? sql`asc` : sql`desc`;
  return STEPS.map((step) =>
    rowsWhere(sql`i.id in (
      with walked as materialized (
        select * from (${walk(sql`is not null`, step)} ${others(step)}) w order by key ${direction}, item_id ${direction} limit ${step}
      ), ends as (
        select key, item_id from walked where (select count(*) from walked) = ${step} order by key ${back}, item_id ${back} limit 1
      )
      select w.id from walked w where not exists (select 1 from ends) or (w.key, w.item_id) ${down ? sql`>` : sql`<`} (select key, item_id from ends))`),
  );
}

import { type SQL, sql } from "drizzle-orm";
import type { ItemQuery } from "./contract";
import { CHANGING_ORDERS, type Cursor } from "./list-order";
import { shownValue, stoodAt } from "./moments";

/** So many of each are looked at for a page, more where that was not enough. */
const STEPS = [1_000, 20_000] as const;

/**
 * The first items of a list as of a moment, in an order of values that items have now and versions had then. No index has those together. What is first is either
 * among the first versions that stood then, or among the first items as they are now (which count where there is no version): both orders are walked through, and
 * up to where the shorter walk ends nothing can be missing.
 * @param where the condition on `items i` @param most how many are wanted
 * @returns queries that look at more each, for items with `sort_by`: where as many rows come as are wanted, they are the first ones
 */
export function firstAsOf(jobId: number, query: ItemQuery & { asOf: string }, where: SQL, after: Cursor | null, most: number): SQL[] {
  if (query.sort === "name") return [];
  const { column, type, of } = CHANGING_ORDERS[query.sort];
  const down = query.order === "down";
  const direction = down ? sql`desc` : sql`asc`;
  const back = down ? sql`asc` : sql`desc`;
  const [beyondSign, withinSign] = down ? [sql`<`, sql`>=`] : [sql`>`, sql`<=`];
  const beyond = (key: SQL, id: SQL) =>
    after ? sql`and (${key}, ${id}) ${beyondSign} (${after[0]}::${type}, ${after[1]}::bigint)` : sql``;
  const { asOf, ...scope } = query;
  const name = sql.raw(column);
  const [ofVersion, ofItem] = [of(sql`c.${name}`), of(sql`i.${name}`)];
  return STEPS.map(
    (step) => sql`
    with v as materialized (
      select ${ofVersion} as key, c.item_id as id from copies c
      where c.job_id = ${jobId} and c.present is not null and ${stoodAt(asOf, scope)} ${beyond(ofVersion, sql`c.item_id`)}
      order by ${ofVersion} ${direction}, c.item_id ${direction} limit ${step}
    ), now as materialized (
      select ${ofItem} as key, i.id from items i where i.job_id = ${jobId} ${beyond(ofItem, sql`i.id`)}
      order by ${ofItem} ${direction}, i.id ${direction} limit ${step}
    ), ends as (
      select key, id from (
        (select key, id from v where (select count(*) from v) = ${step} order by key ${back}, id ${back} limit 1)
        union all (select key, id from now where (select count(*) from now) = ${step} order by key ${back}, id ${back} limit 1)
      ) e order by key ${direction}, id ${direction} limit 1
    ), shown as (
      select i.*, ${of(shownValue(column, query))} as sort_by from items i where i.id in (select id from v union select id from now) and ${where} offset 0
    )
    select i.* from shown i where (not exists (select 1 from ends) or (i.sort_by, i.id) ${withinSign} (select key, id from ends))
      ${beyond(sql`i.sort_by`, sql`i.id`)} order by i.sort_by ${direction}, i.id ${direction} limit ${most}`,
  );
}

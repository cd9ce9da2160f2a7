import { type SQL, sql } from "drizzle-orm";
import type { Condition } from "../../core/copies/vocabulary";
import type { Connection, Database } from "../database/connection";
import { OPENS } from "../passes/best-copy";
import { type Item, type ItemFilter, type Moments, type Scope, type Since, setsOf } from "./contract";

/** More moments than a time axis can show. */
const MOST_MOMENTS = 5000;

/** The moments at which something changed in snapshots and backup sets, with how many files did; oldest first. */
export async function listMoments(db: Database, jobId: number, scope: Scope): Promise<Moments> {
  const versions = sql`copies c where c.job_id = ${jobId} and c.present is not null and ${inScope(scope)}`;
  const { rows } = await db.execute<{ at: string; count: number }>(sql`
    select (extract(epoch from at) * 1000)::bigint as at, count(*)::int as count from (
      select lower(c.present) as at from ${versions}
      union all
      select upper(c.present) + interval '1 millisecond' from ${versions} and not upper_inf(c.present)
    ) m where at <= now() group by 1 order by 1 desc limit ${MOST_MOMENTS}`);
  return { moments: rows.map(({ at, count }) => ({ at: Number(at), count })).reverse() };
}

/** The condition on copies that a scope means. @param copy what the copies are called in the query */
export function inScope({ source, volume, set }: Scope, copy: SQL = sql`c`): SQL {
  const parts = [sql`true`];
  if (source) parts.push(sql`${copy}.store_id in (select id from stores where source_id = ${source})`);
  if (volume) parts.push(sql`${copy}.store_id = ${volume}`);
  const sets = setsOf(set).map((each) => {
    const [store, key] = each.split("-");
    return sql`(${copy}.store_id = ${Number(store)} and ${copy}.set_key = ${key})`;
  });
  if (sets.length > 0) parts.push(sql`(${sql.join(sets, sql` or `)})`);
  return sql.join(parts, sql` and `);
}

/** The order of an item's copies `c` of one moment, the one that a list shows first. */
const FIRST_OF = sql`array_position(array['whole', 'partial', 'not-checked', 'name-only'], c.condition), c.modified desc nulls last, c.id`;
/** Whether a copy `c` stood at a moment. */
export const stoodAt = (moment: string, scope: Scope) => sql`c.present @> ${moment}::timestamptz and ${inScope(scope)}`;
/** Whether a copy `c` is the file itself as its drive has it now. */
const IS_PRESENT = sql`c.place = 'file-record' and c.state = 'live' and c.present is null`;
/** Whether a copy `c` is of a last state, and that is later than the moment. */
const IS_LATER = (moment: string) => sql`lower(c.present) > ${moment}::timestamptz and upper_inf(c.present)`;
const SAME_AS_THEN = sql`(c.size = v.size and c.modified is not distinct from v.modified)`;

/** The copy of an item `item` that stood at a moment, as a query for one row. */
const VERSION = (item: string, moment: string, scope: Scope) => sql`
  select c.id, c.size, c.modified, c.condition, c.survival, c.present, c.facts, ${sql.raw(OPENS("c"))} as opens from copies c
  where c.item_id = ${sql.raw(item)} and ${stoodAt(moment, scope)} order by ${FIRST_OF} limit 1`;

/** What a list says of an item that a version may say otherwise, and how it is called in `items`. */
export type ChangingColumn = "size" | "modified" | "condition" | "survival";

/**
 * A value of an item `i` as a list shows it, as an expression: as of a moment that of the version that stood then, where there is one. The list is narrowed,
 * ordered and counted by it.
 */
export const shownValue = (column: ChangingColumn, { asOf, ...scope }: Scope & Pick<ItemFilter, "asOf">): SQL => {
  const name = sql.raw(column);
  if (!asOf) return sql`i.${name}`;
  return sql`(select case when v.id is null then i.${name} else v.${name} end from (select) one left join lateral (${VERSION("i.id", asOf, scope)}) v on true)`;
};

/**
 * Items `i` with the values a list as of a moment shows, as a table: of very many at once. `then_id` is the version's copy.
 * @param items those to look through, as a table @param where the condition on `i`
 */
export const itemsAt = (jobId: number, items: SQL, where: SQL, moment: string, scope: Scope): SQL => sql`(
  with listed as materialized (select i.* from ${items} i where ${where}),
  v as (
    select distinct on (c.item_id) c.item_id, c.id, c.size, c.modified, c.condition from copies c join listed on listed.id = c.item_id
    where c.job_id = ${jobId} and ${stoodAt(moment, scope)} order by c.item_id, ${FIRST_OF}
  )
  select l.id, l.folder_id, l.kind, l.places, l.stores, l.live, l.opens, l.deleted_at, l.created, l.extension, v.id as then_id,
    case when v.id is null then l.size else v.size end as size, case when v.id is null then l.modified else v.modified end as modified,
    case when v.id is null then l.condition else v.condition end as condition
  from listed l left join v on v.item_id = l.id)`;

/**
 * The items `i` that a list is to look through, as a table: those that may have become what is asked for since a moment, where these are found sooner than what
 * each became.
 */
export function itemsToLookAt(jobId: number, { since, asOf, ...scope }: Scope & Pick<ItemFilter, "since" | "asOf">): SQL {
  if (!asOf || since === undefined) return sql`items`;
  const moment = sql`${asOf}::timestamptz`;
  const copiesThat = (are: SQL) => sql`select c.item_id from copies c where c.job_id = ${jobId} and ${are}`;
  const ended = copiesThat(
    sql`not upper_inf(c.present) and upper(c.present) >= ${moment} and lower(c.present) <= ${moment} and ${inScope(scope)}`,
  );
  const wanted: Partial<Record<Since, SQL>> = {
    // A version that stands to the end is not gone; of what has none, only something that is there by its dates and is not the file on its drive.
    gone: sql`${ended} union all ${copiesThat(sql`c.present is null and (c.deleted_at is not null or (c.state = 'live' and c.place <> 'file-record'))`)}`,
    moved: copiesThat(sql`c.moved_to is not null`),
    changed: sql`${copiesThat(IS_LATER(asOf))} union all ${copiesThat(IS_PRESENT)}`,
  };
  const which = wanted[since];
  // The offset keeps what is looked at closely until then.
  return which ? sql`(select i.* from items i where i.id in (${which}) offset 0)` : sql`items`;
}

/** The id of the copy of an item that stood at a moment, as an expression; null: there is none, only the item itself is known. */
export const versionAt = (item: string, moment: string, scope: Scope) => sql`(select v.id from (${VERSION(item, moment, scope)}) v)`;

/**
 * What became of a file since a moment, by the version `v` that stood then and the present file `live`, else by the states after the moment: whether
 * a last one has `another` version, or `theSame`, and whether the file `moved` away since. Without a version only dates decide: of a file that was changed since there is none of then.
 */
const SINCE_THEN = (moment: string, { another, theSame, moved }: { another: SQL; theSame: SQL; moved: SQL }) => sql`case
  when v.id is null and live.id is null then 'gone'
  when v.id is null then case when live.modified <= ${moment}::timestamptz then 'same' else 'changed' end
  when live.id is not null then case when live.size = v.size and live.modified is not distinct from v.modified then 'same' else 'changed' end
  when ${another} then 'changed'
  when upper_inf(v.present) or ${theSame} then 'kept'
  when ${moved} then 'moved'
  else 'gone' end`;

/** Whether a copy `c` of the item of a version `v` is one of the same time or later that was moved away. */
const MOVED_AWAY = sql`c.moved_to is not null and lower(c.present) >= lower(v.present)`;

/**
 * An item as it was at a moment, as a query for one row: the copy that stood then, and what became of it since. (With `+ 0` the database does not go
 * through all copies in the order of their ids for the one of an item.)
 */
const THEN = (item: string, moment: string, scope: Scope) => {
  const later = (which: SQL) =>
    sql`exists (select 1 from copies c where c.item_id = ${sql.raw(item)} and ${IS_LATER(moment)} and ${which})`;
  const moved = sql`exists (select 1 from copies c where c.item_id = ${sql.raw(item)} and ${MOVED_AWAY})`;
  return sql`
  select v.id, v.size, v.modified, v.condition, v.survival, v.facts, v.opens, ${SINCE_THEN(moment, { another: later(sql`not ${SAME_AS_THEN}`), theSame: later(SAME_AS_THEN), moved })} as since
  from (select) one
  left join lateral (${VERSION(item, moment, scope)}) v on true
  left join lateral (select c.id, c.size, c.modified from copies c where c.item_id = ${sql.raw(item)} and ${IS_PRESENT} order by c.id + 0 limit 1) live on true`;
};

/**
 * Counts items by what became of them since a moment: of very many at once, which is several times as quick as one by one.
 * @param where the condition on `items i`
 */
export async function countSince(db: Connection, jobId: number, where: SQL, moment: string, scope: Scope): Promise<Map<Since, number>> {
  const { rows } = await db.execute<{ since: Since; count: string }>(sql`
    with listed as materialized (select i.id from items i where ${where}),
    v as (
      select distinct on (c.item_id) c.item_id, c.id, c.size, c.modified, c.present from copies c join listed on listed.id = c.item_id
      where c.job_id = ${jobId} and ${stoodAt(moment, scope)} order by c.item_id, ${FIRST_OF}
    ), live as (
      select distinct on (c.item_id) c.item_id, c.id, c.size, c.modified from copies c join listed on listed.id = c.item_id
      where c.job_id = ${jobId} and ${IS_PRESENT} order by c.item_id, c.id
    ), later as (
      select c.item_id, bool_or(not ${SAME_AS_THEN}) as another, bool_or(${SAME_AS_THEN}) as the_same from copies c join v on v.item_id = c.item_id
      where c.job_id = ${jobId} and ${IS_LATER(moment)} group by c.item_id
    ), moved as (
      select distinct c.item_id from copies c join v on v.item_id = c.item_id where c.job_id = ${jobId} and ${MOVED_AWAY}
    )
    select ${SINCE_THEN(moment, { another: sql`later.another`, theSame: sql`coalesce(later.the_same, false)`, moved: sql`moved.item_id is not null` })} as since, count(*) as count
    from listed left join v on v.item_id = listed.id left join live on live.item_id = listed.id left join later on later.item_id = listed.id
      left join moved on moved.item_id = listed.id
    group by 1`);
  return new Map(rows.map(({ since, count }) => [since, Number(count)]));
}

/** What became of an item since a moment, as an expression. */
export const sinceAt = (item: string, moment: string, scope: Scope) => sql`(select t.since from (${THEN(item, moment, scope)}) t)`;

/** An item as it was at a moment. */
export interface AsOf {
  readonly version: Pick<Item, "size" | "modified" | "condition" | "survival" | "opens" | "facts" | "inTray" | "copyThen"> | null;
  readonly since: Since;
}

interface AsOfRow extends Record<string, unknown> {
  item_id: string;
  id: string | null;
  size: string;
  modified: string | null;
  condition: Condition;
  survival: number;
  opens: Item["opens"];
  facts: Item["facts"];
  in_tray: boolean;
  since: Since;
}

/** What became of items since a moment, and which copy of each stood then. */
export async function itemsAsOf(db: Connection, ids: readonly number[], moment: string, scope: Scope): Promise<Map<number, AsOf>> {
  if (ids.length === 0) return new Map();
  const { rows } = await db.execute<AsOfRow>(sql`
    select i.id as item_id, t.*, exists (select 1 from tray_entries e where e.item_id = i.id and e.copy_id = t.id) as in_tray
    from items i cross join lateral (${THEN("i.id", moment, scope)}) t
    where i.id = any(${sql.raw(`'{${ids.map(Math.trunc).join(",")}}'::bigint[]`)})`);
  return new Map(
    rows.map(({ item_id: itemId, id, since, condition, survival, opens, facts, in_tray: inTray, ...row }): [number, AsOf] => {
      const modified = row.modified === null ? null : new Date(row.modified);
      const version =
        id === null ? null : { copyThen: Number(id), size: Number(row.size), modified, condition, survival, opens, facts, inTray };
      return [Number(itemId), { version, since }];
    }),
  );
}

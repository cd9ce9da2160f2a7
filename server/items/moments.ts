import { type SQL, sql } from "drizzle-orm";
import type { Condition } from "../../core/copies/vocabulary";
import type { Connection, Database } from "../database/connection";
import type { ItemFilter, Moments, Since } from "./contract";

/** More moments than a time axis can show. */
const MOST_MOMENTS = 5000;

/** The moments at which something changed in snapshots and backup sets, with how many files did; oldest first. */
export async function listMoments(db: Database, jobId: number): Promise<Moments> {
  const { rows } = await db.execute<{ at: string; count: number }>(sql`
    select (extract(epoch from at) * 1000)::bigint as at, count(*)::int as count from (
      select lower(present) as at from copies where job_id = ${jobId} and present is not null
      union all
      select upper(present) + interval '1 millisecond' from copies where job_id = ${jobId} and present is not null and not upper_inf(present)
    ) m where at <= now() group by 1 order by 1 desc limit ${MOST_MOMENTS}`);
  return { moments: rows.map(({ at, count }) => ({ at: Number(at), count })).reverse() };
}

/** What the copies are of that a list as of a moment goes by; nothing given: of anything in the job. */
export type Scope = Pick<ItemFilter, "source" | "volume" | "set">;

/** The condition on `copies c` that a scope means. */
export function inScope({ source, volume, set }: Scope): SQL {
  const parts = [sql`true`];
  if (source) parts.push(sql`c.store_id in (select id from stores where source_id = ${source})`);
  if (volume) parts.push(sql`c.store_id = ${volume}`);
  if (set) {
    const [store, key] = set.split("-");
    parts.push(sql`c.store_id = ${Number(store)} and c.set_key = ${key}`);
  }
  return sql.join(parts, sql` and `);
}

/** The copy of an item `item` that stood at a moment, as a query for one row. */
const VERSION = (item: string, moment: string, scope: Scope) => sql`
  select c.id, c.size, c.modified, c.condition, c.survival, c.present from copies c
  where c.item_id = ${sql.raw(item)} and c.present @> ${moment}::timestamptz and ${inScope(scope)}
  order by array_position(array['whole', 'partial', 'not-checked', 'name-only'], c.condition), c.modified desc nulls last, c.id limit 1`;

/** The id of the copy of an item that stood at a moment, as an expression; null: only the item itself tells. */
export const versionAt = (item: string, moment: string, scope: Scope) => sql`(select v.id from (${VERSION(item, moment, scope)}) v)`;

/** Whether a last state, later than the moment, has a version `v` of the item, or another one than that. */
const LATER = (item: string, moment: string, has: "the same" | "another") => sql`exists (select 1 from copies c
  where c.item_id = ${sql.raw(item)} and lower(c.present) > ${moment}::timestamptz and upper_inf(c.present)
    and (c.size = v.size and c.modified is not distinct from v.modified) = ${has === "the same"})`;

/**
 * An item as it was at a moment, as a query for one row: the copy that stood then, and what became of it since, by the present file where it is
 * known, else by the states after the moment. Without such a copy only dates tell: of a file that was changed since there is none of then.
 */
const THEN = (item: string, moment: string, scope: Scope) => sql`
  select v.id, v.size, v.modified, v.condition, v.survival, case
      when v.id is null and live.id is null then 'gone'
      when v.id is null then case when live.modified <= ${moment}::timestamptz then 'same' else 'changed' end
      when live.id is not null then case when live.size = v.size and live.modified is not distinct from v.modified then 'same' else 'changed' end
      when ${LATER(item, moment, "another")} then 'changed'
      when upper_inf(v.present) or ${LATER(item, moment, "the same")} then 'kept'
      else 'gone' end as since
  from (select) one
  left join lateral (${VERSION(item, moment, scope)}) v on true
  left join lateral (select c.id, c.size, c.modified from copies c
    where c.item_id = ${sql.raw(item)} and c.place = 'file-record' and c.state = 'live' and c.present is null limit 1) live on true`;

/** What became of an item since a moment, as an expression. */
export const sinceAt = (item: string, moment: string, scope: Scope) => sql`(select t.since from (${THEN(item, moment, scope)}) t)`;

/** An item as it was at a moment. */
export interface AsOf {
  readonly version: { copyId: number; size: number; modified: Date | null; condition: Condition; survival: number; inTray: boolean } | null;
  readonly since: Since;
}

interface AsOfRow extends Record<string, unknown> {
  item_id: string;
  id: string | null;
  size: string;
  modified: string | null;
  condition: Condition;
  survival: number;
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
    rows.map(({ item_id: itemId, id, since, condition, survival, in_tray: inTray, ...row }): [number, AsOf] => {
      const modified = row.modified === null ? null : new Date(row.modified);
      const version = id === null ? null : { copyId: Number(id), size: Number(row.size), modified, condition, survival, inTray };
      return [Number(itemId), { version, since }];
    }),
  );
}

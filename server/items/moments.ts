import { sql } from "drizzle-orm";
import type { Condition } from "../../core/copies/vocabulary";
import type { Connection, Database } from "../database/connection";
import type { Moments, Since } from "./contract";

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

/** The copy of an item `item` that stood at a moment, as a query for one row. */
const VERSION = (item: string, moment: string) => sql`
  select c.id, c.size, c.modified, c.condition, c.survival, c.present from copies c
  where c.item_id = ${sql.raw(item)} and c.present @> ${moment}::timestamptz
  order by array_position(array['whole', 'partial', 'not-checked', 'name-only'], c.condition), c.modified desc nulls last, c.id limit 1`;

/** The id of the copy of an item that stood at a moment, as an expression; null: only the item itself tells. */
export const versionAt = (item: string, moment: string) => sql`(select v.id from (${VERSION(item, moment)}) v)`;

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
  lasts: boolean | null;
  /** The last state has a later version of it. */
  replaced: boolean;
  live: boolean;
  same: boolean | null;
}

/** What became of items since a moment, and which copy of each stood then. */
export async function itemsAsOf(db: Connection, ids: readonly number[], moment: string): Promise<Map<number, AsOf>> {
  if (ids.length === 0) return new Map();
  const { rows } = await db.execute<AsOfRow>(sql`
    select i.id as item_id, v.id, v.size, v.modified, v.condition, v.survival, upper_inf(v.present) as lasts, live.id is not null as live,
      (live.size = v.size and live.modified is not distinct from v.modified) as same,
      exists (select 1 from copies c where c.item_id = i.id and lower(c.present) > ${moment}::timestamptz and upper_inf(c.present)) as replaced,
      exists (select 1 from tray_entries t where t.item_id = i.id and t.copy_id = v.id) as in_tray
    from items i
    left join lateral (${VERSION("i.id", moment)}) v on true
    left join lateral (select c.id, c.size, c.modified from copies c
      where c.item_id = i.id and c.place = 'file-record' and c.state = 'live' and c.present is null limit 1) live on true
    where i.id = any(${sql.raw(`'{${ids.map(Math.trunc).join(",")}}'::bigint[]`)})`);
  return new Map(
    rows.map((row): [number, AsOf] => {
      const { id, condition, survival, in_tray: inTray } = row;
      const modified = row.modified === null ? null : new Date(row.modified);
      const version = id === null ? null : { copyId: Number(id), size: Number(row.size), modified, condition, survival, inTray };
      return [Number(row.item_id), { version, since: sinceOf(row) }];
    }),
  );
}

/** By the present file where it is known; else by the states after the moment. */
function sinceOf({ id, live, same, lasts, replaced }: AsOfRow): Since {
  if (id === null) return live ? "same" : "gone";
  if (live) return same ? "same" : "changed";
  if (replaced) return "changed";
  return lasts ? "kept" : "gone";
}

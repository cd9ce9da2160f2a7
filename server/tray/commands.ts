import { type SQL, sql } from "drizzle-orm";
import type { Connection, Database } from "../database/connection";
import { filterCondition } from "../items/filter";
import { idsBetween } from "../items/list";
import { announce } from "../workers/queue";
import type { TrayChange } from "./contract";

/** The items of this job that a change means, as a query for their ids. */
async function meant(db: Connection, jobId: number, change: TrayChange): Promise<SQL> {
  if ("everything" in change) return sql`select id from items where job_id = ${jobId}`;
  if ("items" in change) {
    const ids = sql.raw(`'{${change.items.map(Math.trunc).join(",")}}'::bigint[]`);
    return sql`select id from items where job_id = ${jobId} and id = any(${ids})`;
  }
  const { matching, between } = change;
  if (between) return idsBetween(db, jobId, matching, ...between);
  return sql`select i.id from items i where ${await filterCondition(db, jobId, matching)}`;
}

/** Puts items of this job into the tray, or takes them out. */
export async function changeTray(db: Database, jobId: number, change: TrayChange): Promise<void> {
  const ids = await meant(db, jobId, change);
  if (change.chosen)
    await db.execute(sql`insert into tray_entries (job_id, item_id) select ${jobId}::int, id from (${ids}) m on conflict do nothing`);
  else await db.execute(sql`delete from tray_entries where job_id = ${jobId} and item_id in (${ids})`);
  await announce(db, jobId);
}

import { and, eq, inArray, sql } from "drizzle-orm";
import type { Database } from "../database/connection";
import { trayEntries } from "../database/schema";
import { announce } from "../workers/queue";

/** Puts items of this job into the tray, or takes them out. */
export async function changeTray(db: Database, jobId: number, items: readonly number[], chosen: boolean): Promise<void> {
  if (items.length === 0) return;
  if (chosen) {
    const ids = sql.raw(`'{${items.map((id) => Math.trunc(id)).join(",")}}'::bigint[]`);
    await db.execute(
      sql`insert into tray_entries (job_id, item_id) select ${jobId}, id from items where job_id = ${jobId} and id = any(${ids}) on conflict do nothing`,
    );
  } else {
    await db.delete(trayEntries).where(and(eq(trayEntries.jobId, jobId), inArray(trayEntries.itemId, [...items])));
  }
  await announce(db, jobId);
}

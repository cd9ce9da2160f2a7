import { sql } from "drizzle-orm";
import type { Database } from "../database/connection";
import { gatherCopies } from "../passes/best-copy";
import { announce } from "../workers/queue";

/** Makes the copies of one item copies of another; what was chosen stays chosen. @param why stands with each of them from now on */
export async function joinItems(db: Database, jobId: number, itemId: number, knownItemId: number, why: string): Promise<void> {
  await db.transaction(async (tx) => {
    await tx.execute(sql`
      update copies set item_id = ${knownItemId}, notes = notes || ${JSON.stringify([why])}::jsonb
      where item_id = ${itemId} and job_id = ${jobId}`);
    await tx.execute(sql`
      insert into tray_entries (job_id, item_id, copy_id)
      select job_id, ${knownItemId}::bigint, copy_id from tray_entries where job_id = ${jobId} and item_id = ${itemId} on conflict do nothing`);
    await tx.execute(sql`delete from tray_entries where job_id = ${jobId} and item_id = ${itemId}`);
    await tx.execute(sql`delete from items where id = ${itemId} and job_id = ${jobId}`);
    await tx.execute(sql.raw(gatherCopies(`select ${Math.trunc(knownItemId)}::bigint as id`)));
    await announce(tx, jobId);
  });
}

import { sql } from "drizzle-orm";
import type { Connection, Database } from "../database/connection";
import { gatherCopies } from "../passes/best-copy";
import { announce } from "../workers/queue";

/** Lets nobody else move a job's copies from item to item until the transaction ends. */
export async function lockGathering(tx: Connection, jobId: number): Promise<void> {
  await tx.execute(sql`select pg_advisory_xact_lock(${GATHERING}, ${jobId})`);
}

/** Any number all of ours agree on. */
const GATHERING = 7_240_114;

/** Makes the copies of one item copies of another; what was chosen stays chosen. @param why stands with each of them from now on */
export async function joinItems(db: Database, jobId: number, itemId: number, knownItemId: number, why: string): Promise<void> {
  await db.transaction(async (tx) => {
    await lockGathering(tx, jobId);
    // Homes may have been joined since the two were compared.
    const { rows } = await tx.execute(sql`select 1 from items where id = ${knownItemId} and job_id = ${jobId}`);
    if (rows.length === 0) return;
    await tx.execute(sql`
      update copies set item_id = ${knownItemId}, notes = notes || ${JSON.stringify([why])}::jsonb
      where item_id = ${itemId} and job_id = ${jobId}`);
    await tx.execute(sql`
      insert into tray_entries (job_id, item_id, copy_id, place_home, place_folder, place_name)
      select job_id, ${knownItemId}::bigint, copy_id, place_home, place_folder, place_name from tray_entries where job_id = ${jobId} and item_id = ${itemId} on conflict do nothing`);
    await tx.execute(sql`delete from tray_entries where job_id = ${jobId} and item_id = ${itemId}`);
    await tx.execute(sql`delete from items where id = ${itemId} and job_id = ${jobId}`);
    await tx.execute(sql.raw(gatherCopies(`select ${Math.trunc(knownItemId)}::bigint as id`)));
    await announce(tx, jobId);
  });
}

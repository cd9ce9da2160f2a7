import { sql } from "drizzle-orm";
import { hashedText } from "../../io/log-chain";
import type { Connection } from "../database/connection";
import { Problem } from "../problem";

/**
 * Notes in the job's log what was done, and counts it as activity. The entry is chained to the one before it (`hashEntry`): the job's row
 * is held while its newest hash is exchanged, so that entries written at once follow one another.
 */
export async function note(db: Connection, jobId: number, what: string, detail: Record<string, unknown> = {}): Promise<void> {
  const at = new Date().toISOString();
  const stored = JSON.stringify(detail);
  const { rowCount } = await db.execute(sql`
    with head as (
      update jobs set last_activity = now(),
        log_hash = encode(sha256(convert_to(coalesce(log_hash, '') || E'\n' || ${hashedText({ at, what, detail })}, 'UTF8')), 'hex')
      where id = ${jobId} returning log_hash)
    insert into log_entries (job_id, at, what, detail, hash)
    select ${jobId}, ${at}::timestamptz, ${what}, ${stored}::jsonb, log_hash from head`);
  // What cannot be noted is not done either: the caller's transaction is taken back.
  if (rowCount !== 1) throw new Problem("There is no such job.", 404);
}

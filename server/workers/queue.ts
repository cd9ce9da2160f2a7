import { sql } from "drizzle-orm";
import type { Connection } from "../database/connection";

export const TASK = {
  pass: "pass",
  restore: "restore",
  thumbnails: "thumbnails",
  equals: "equals",
  facts: "facts",
  check: "check",
  prove: "prove",
  reading: "reading",
} as const;
/** Work nobody waits for is done one at a time, so that a pass that is started never has to wait for a second one to end. */
const BESIDE: ReadonlySet<keyof typeof TASK> = new Set(["thumbnails", "equals", "facts"]);

/**
 * Puts a slice of work into the queue, within the caller's transaction. A slice already waiting is not doubled.
 * @param waitMs it is not begun before so many milliseconds are over
 */
export async function enqueue(
  db: Connection,
  task: keyof typeof TASK,
  id: number,
  more: Record<string, number> = {},
  waitMs = 0,
): Promise<void> {
  await db.execute(
    sql`select graphile_worker.add_job(${TASK[task]}, ${JSON.stringify({ id, ...more })}::json, queue_name => ${BESIDE.has(task) ? "beside" : null},
      job_key => ${`${task}:${id}`}, max_attempts => 5, run_at => now() + ${waitMs} * interval '1 millisecond')`,
  );
}

/** Notifies whoever follows the job that something changed. */
export async function announce(db: Connection, jobId: number): Promise<void> {
  await db.execute(sql`select pg_notify('compass', ${String(jobId)})`);
}

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
 * How often a slice of work is begun at most. A worker that is killed has used up one: what must come to its end whatever befalls the
 * computer has many. What fails by itself is settled in words, and not tried again.
 */
const TRIES: Readonly<Record<keyof typeof TASK, number>> = {
  pass: 50,
  restore: 50,
  prove: 50,
  check: 50,
  thumbnails: 5,
  equals: 5,
  facts: 5,
  reading: 5,
};

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
      job_key => ${`${task}:${id}`}, max_attempts => ${TRIES[task]}, run_at => now() + ${waitMs} * interval '1 millisecond')`,
  );
}

/** Notifies whoever follows the job that something changed. */
export async function announce(db: Connection, jobId: number): Promise<void> {
  await db.execute(sql`select pg_notify('compass', ${String(jobId)})`);
}

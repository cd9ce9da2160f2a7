import { type SQL, sql } from "drizzle-orm";
import type { Connection } from "../database/connection";
import { flagOfJob } from "./sight";

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

/** Whose sources a piece of work reads, as flags (`sight.ts`): an SQL array, made of its id. */
const NEEDS: Readonly<Record<keyof typeof TASK, (id: number) => SQL>> = {
  pass: (id) => sql`(select array['source:' || s.source_id] from passes p join stores s on s.id = p.store_id where p.id = ${id})`,
  reading: (id) => sql`(select array['source:' || source_id] from stores where id = ${id})`,
  restore: (id) => sql`(select array['job:' || job_id] from restores where id = ${id})`,
  prove: (id) => sql`(select array['job:' || job_id] from restores where id = ${id})`,
  thumbnails: (id) => ofJob(id),
  equals: (id) => ofJob(id),
  facts: (id) => ofJob(id),
  check: (id) => ofJob(id),
};
const ofJob = (jobId: number): SQL => sql`array[${flagOfJob(jobId)}::text]`;

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
      job_key => ${`${task}:${id}`}, max_attempts => ${TRIES[task]}, flags => ${NEEDS[task](id)}, run_at => now() + ${waitMs} * interval '1 millisecond')`,
  );
}

/**
 * Notifies whoever follows the job that something changed.
 * @param change "settled": no more than how far files of a restore are, which happens many times a second
 */
export async function announce(db: Connection, jobId: number, change: "changed" | "settled" = "changed"): Promise<void> {
  await db.execute(sql`select pg_notify('compass', ${`${jobId} ${change}`})`);
}

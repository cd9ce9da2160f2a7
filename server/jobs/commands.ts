import { eq, type SQL, sql } from "drizzle-orm";
import type { z } from "zod";
import type { Database } from "../database/connection";
import { jobs } from "../database/schema";
import { note } from "../log/commands";
import { announce } from "../workers/queue";
import type { JobChange, newJob } from "./contract";

/** @returns the new job's id */
export async function createJob(db: Database, values: z.infer<typeof newJob>): Promise<number> {
  return db.transaction(async (tx) => {
    const { timeZone, ...rest } = values;
    const [row] = await tx
      .insert(jobs)
      .values({ ...rest, ...(timeZone ? { timeZone } : {}) })
      .returning({ id: jobs.id });
    const { id } = row as { id: number };
    await note(tx, id, "Job opened", { title: values.title });
    return id;
  });
}

/** Archives a job or takes it out again, sets the zone its times are shown in, or what it and those concerned are called. */
export async function changeJob(db: Database, id: number, change: JobChange): Promise<void> {
  if ("timeZone" in change) {
    await changeZone(db, id, change.timeZone);
    await note(db, id, "Time zone set", change);
  } else if (!("archived" in change)) {
    await db
      .update(jobs)
      .set(Object.fromEntries(Object.entries(change).filter(([, value]) => value !== undefined)))
      .where(eq(jobs.id, id));
    await note(db, id, "Job’s words changed", change);
  } else {
    await db
      .update(jobs)
      .set({ archivedAt: change.archived ? new Date() : null })
      .where(eq(jobs.id, id));
    await note(db, id, change.archived ? "Job archived" : "Job taken out of the archive");
  }
  await announce(db, id);
}

async function changeZone(db: Database, jobId: number, timeZone: string): Promise<void> {
  await db.transaction(async (tx) => {
    const [job] = await tx.select({ before: jobs.timeZone }).from(jobs).where(eq(jobs.id, jobId)).for("update");
    if (!job || job.before === timeZone) return;
    await tx.update(jobs).set({ timeZone }).where(eq(jobs.id, jobId));
    const moved = (column: SQL) => sql`(${column} at time zone ${job.before}) at time zone ${timeZone}`;
    await tx.execute(sql`
      update copies c set modified = ${moved(sql`c.modified`)}, created = ${moved(sql`c.created`)} where c.job_id = ${jobId} and c.local_times`);
    await tx.execute(sql`
      update items i set modified = c.modified, created = c.created from copies c
      where i.job_id = ${jobId} and c.id = i.best_copy_id and c.local_times`);
  });
}

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
    const [row] = await tx.insert(jobs).values(values).returning({ id: jobs.id });
    const { id } = row as { id: number };
    await note(tx, id, "Job opened", { title: values.title });
    return id;
  });
}

/** Archives a job or takes it out again, or sets the zone its times are shown in. */
export async function changeJob(db: Database, id: number, change: JobChange): Promise<void> {
  if ("timeZone" in change) {
    await changeZone(db, id, change.timeZone);
    await note(db, id, "Time zone set", change);
  } else {
    await db
      .update(jobs)
      .set({ archivedAt: change.archived ? new Date() : null })
      .where(eq(jobs.id, id));
    await note(db, id, change.archived ? "Job archived" : "Job taken out of the archive");
  }
  await announce(db, id);
}

/** Volumes whose times are local times: what was read of them moves with the job's zone. */
const LOCAL = sql`v.filesystem in ('fat12', 'fat16', 'fat32')`;

async function changeZone(db: Database, jobId: number, timeZone: string): Promise<void> {
  await db.transaction(async (tx) => {
    const [job] = await tx.select({ before: jobs.timeZone }).from(jobs).where(eq(jobs.id, jobId)).for("update");
    if (!job || job.before === timeZone) return;
    await tx.update(jobs).set({ timeZone }).where(eq(jobs.id, jobId));
    const moved = (column: SQL) => sql`(${column} at time zone ${job.before}) at time zone ${timeZone}`;
    await tx.execute(sql`
      update copies c set modified = ${moved(sql`c.modified`)}, created = ${moved(sql`c.created`)}
      from volumes v where v.id = c.volume_id and c.job_id = ${jobId} and ${LOCAL}`);
    await tx.execute(sql`
      update items i set modified = ${moved(sql`i.modified`)} from volumes v where v.id = i.volume_id and i.job_id = ${jobId} and ${LOCAL}`);
  });
}

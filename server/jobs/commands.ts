import { eq } from "drizzle-orm";
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
    await db.update(jobs).set({ timeZone: change.timeZone }).where(eq(jobs.id, id));
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

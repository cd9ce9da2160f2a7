import { eq } from "drizzle-orm";
import type { z } from "zod";
import type { Database } from "../database/connection";
import { jobs } from "../database/schema";
import { note } from "../log/commands";
import type { newJob } from "./contract";

/** @returns the new job's id */
export async function createJob(db: Database, values: z.infer<typeof newJob>): Promise<number> {
  return db.transaction(async (tx) => {
    const [row] = await tx.insert(jobs).values(values).returning({ id: jobs.id });
    const { id } = row as { id: number };
    await note(tx, id, "Job opened", { title: values.title });
    return id;
  });
}

export async function archiveJob(db: Database, id: number, archived: boolean): Promise<void> {
  await db
    .update(jobs)
    .set({ archivedAt: archived ? new Date() : null })
    .where(eq(jobs.id, id));
  await note(db, id, archived ? "Job archived" : "Job taken out of the archive");
}

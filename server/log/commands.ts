import { eq } from "drizzle-orm";
import type { Connection } from "../database/connection";
import { jobs, logEntries } from "../database/schema";

/** Notes in the job's log what was done, and counts it as activity. */
export async function note(db: Connection, jobId: number, what: string, detail: Record<string, unknown> = {}): Promise<void> {
  await db.insert(logEntries).values({ jobId, what, detail });
  await db.update(jobs).set({ lastActivity: new Date() }).where(eq(jobs.id, jobId));
}

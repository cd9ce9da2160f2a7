import { asc, eq } from "drizzle-orm";
import type { Connection } from "../database/connection";
import { logEntries } from "../database/schema";
import type { LogEntry } from "./contract";

const MOST = 5000;

/** What was done in a job, in order. */
export async function listLog(db: Connection, jobId: number): Promise<LogEntry[]> {
  const rows = await db.select().from(logEntries).where(eq(logEntries.jobId, jobId)).orderBy(asc(logEntries.id)).limit(MOST);
  return rows.map(({ id, at, what, detail }) => ({ id, at, what, detail: detail as Record<string, unknown> }));
}

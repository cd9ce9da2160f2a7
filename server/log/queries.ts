import { asc, desc, eq } from "drizzle-orm";
import type { Connection } from "../database/connection";
import { logEntries } from "../database/schema";
import type { LogEntry } from "./contract";

/** What was done in a job, in order: all of it, or the newest of it alone. */
export async function listLog(db: Connection, jobId: number, newest?: number): Promise<LogEntry[]> {
  const of = db.select().from(logEntries).where(eq(logEntries.jobId, jobId));
  const rows =
    newest === undefined ? await of.orderBy(asc(logEntries.id)) : (await of.orderBy(desc(logEntries.id)).limit(newest)).reverse();
  return rows.map(({ id, at, what, detail, hash }) => ({ id, at, what, detail: detail as Record<string, unknown>, hash }));
}

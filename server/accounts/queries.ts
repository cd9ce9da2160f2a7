import { and, asc, desc, eq } from "drizzle-orm";
import { EMPTY_ACCOUNT, paragraph } from "../../core/plan/account";
import type { Connection } from "../database/connection";
import { accounts, jobs, logEntries } from "../database/schema";
import { type Account, account, accountList } from "./contract";

/** What log entries of a changed account are called. */
export const ACCOUNT_CHANGED = "Account changed";

/** All that was told in a job; one empty account when nothing was. */
export async function findAccounts(db: Connection, jobId: number): Promise<Account[]> {
  const rows = await db.select().from(accounts).where(eq(accounts.jobId, jobId)).orderBy(asc(accounts.position), asc(accounts.id));
  return rows.length > 0 ? rows.map((row) => account.parse(row.told)) : [account.parse(EMPTY_ACCOUNT)];
}

const MOST_SHOWN = 50;

/** What the accounts said over time, the latest first. */
export async function accountHistoryOf(db: Connection, jobId: number): Promise<{ at: Date; told: string[] }[]> {
  const [job] = await db.select({ timeZone: jobs.timeZone }).from(jobs).where(eq(jobs.id, jobId));
  const rows = await db
    .select({ at: logEntries.at, detail: logEntries.detail })
    .from(logEntries)
    .where(and(eq(logEntries.jobId, jobId), eq(logEntries.what, ACCOUNT_CHANGED)))
    .orderBy(desc(logEntries.id))
    .limit(MOST_SHOWN);
  return rows.flatMap(({ at, detail }) => {
    const told = accountList.safeParse((detail as { accounts?: unknown }).accounts);
    return told.success ? [{ at, told: told.data.map((each) => paragraph(each, job?.timeZone ?? "UTC")) }] : [];
  });
}

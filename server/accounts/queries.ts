import { and, asc, desc, eq } from "drizzle-orm";
import { EMPTY_ACCOUNT, paragraph } from "../../core/plan/account";
import type { Connection } from "../database/connection";
import { accounts, jobs, logEntries } from "../database/schema";
import { type Account, account, accountList } from "./contract";

/** What log entries of a changed account are called. */
export const ACCOUNT_CHANGED = "Account changed";

/** All accounts of a job; one empty account when there is none. */
export async function findAccounts(db: Connection, jobId: number): Promise<Account[]> {
  const rows = await db.select().from(accounts).where(eq(accounts.jobId, jobId)).orderBy(asc(accounts.position), asc(accounts.id));
  return rows.length > 0 ? rows.map((row) => account.parse(row.account)) : [account.parse(EMPTY_ACCOUNT)];
}

const MOST_SHOWN = 50;

/** What the accounts said over time, the latest first. */
export async function accountHistoryOf(db: Connection, jobId: number): Promise<{ at: Date; sentences: string[] }[]> {
  const [job] = await db.select({ timeZone: jobs.timeZone }).from(jobs).where(eq(jobs.id, jobId));
  const rows = await db
    .select({ at: logEntries.at, detail: logEntries.detail })
    .from(logEntries)
    .where(and(eq(logEntries.jobId, jobId), eq(logEntries.what, ACCOUNT_CHANGED)))
    .orderBy(desc(logEntries.id))
    .limit(MOST_SHOWN);
  return rows.flatMap(({ at, detail }) => {
    const noted = accountList.safeParse((detail as { accounts?: unknown }).accounts);
    return noted.success ? [{ at, sentences: noted.data.map((each) => paragraph(each, job?.timeZone ?? "UTC")) }] : [];
  });
}

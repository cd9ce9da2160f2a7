import { asc, eq, sql } from "drizzle-orm";
import { EMPTY_ACCOUNT, paragraph } from "../../core/plan/account";
import type { Connection } from "../database/connection";
import { accounts, jobs } from "../database/schema";
import { type Account, account, accountList } from "./contract";

/** What log entries of a changed account are called. */
export const ACCOUNT_CHANGED = "Account changed";

/** All accounts of a job; one empty account when there is none. */
export async function findAccounts(db: Connection, jobId: number): Promise<Account[]> {
  const rows = await db.select().from(accounts).where(eq(accounts.jobId, jobId)).orderBy(asc(accounts.position), asc(accounts.id));
  return rows.length > 0 ? rows.map((row) => account.parse(row.account)) : [account.parse(EMPTY_ACCOUNT)];
}

/** Changes that follow one another within this time are one in the history: a sentence is typed letter by letter. */
const ONE_CHANGE_MS = 120_000;
const MOST_SHOWN = 50;
/** Entries of the log that are looked at, the newest. */
const MOST_READ = 2_000;

interface ChangeRow extends Record<string, unknown> {
  at: string;
  detail: { accounts?: unknown };
  /** What was noted before it. */
  before: string | null;
}

/** What the accounts said over time, the latest first. The log keeps every saving; those of one change are shown as one, by its first time. */
export async function accountHistoryOf(db: Connection, jobId: number): Promise<{ at: Date; sentences: string[] }[]> {
  const [job] = await db.select({ timeZone: jobs.timeZone }).from(jobs).where(eq(jobs.id, jobId));
  const { rows } = await db.execute<ChangeRow>(sql`
    select at, detail, before from (
      select id, at, what, detail, lag(what) over (order by id) as before from log_entries where job_id = ${jobId} order by id desc limit ${MOST_READ}) e
    where what = ${ACCOUNT_CHANGED} order by id`);
  const changes: { at: Date; accounts: Account[] }[] = [];
  for (const { at, detail, before } of rows) {
    const noted = accountList.safeParse(detail.accounts);
    if (!noted.success) continue;
    const last = changes[changes.length - 1];
    const when = new Date(at);
    if (last && before === ACCOUNT_CHANGED && when.getTime() - last.at.getTime() < ONE_CHANGE_MS) last.accounts = noted.data;
    else changes.push({ at: when, accounts: noted.data });
  }
  const zone = job?.timeZone ?? "UTC";
  return changes
    .slice(-MOST_SHOWN)
    .reverse()
    .map(({ at, accounts: said }) => ({ at, sentences: said.map((each) => paragraph(each, zone)) }));
}

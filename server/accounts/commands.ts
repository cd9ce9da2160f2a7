import { desc, eq, sql } from "drizzle-orm";
import type { Moment } from "../../core/plan/account";
import { roughMoment } from "../../core/plan/rough-time";
import type { Connection, Database } from "../database/connection";
import { accounts, jobs, logEntries } from "../database/schema";
import { note } from "../log/commands";
import { announce } from "../workers/queue";
import type { Account } from "./contract";
import { ACCOUNT_CHANGED, findAccounts } from "./queries";

/** Changes that follow one another within this time are one in the history: a sentence is typed letter by letter. */
const ONE_CHANGE_MS = 120_000;

/** Stores all accounts of a job, with what the client's words for times mean. @returns the accounts as stored */
export async function saveAccounts(db: Database, jobId: number, values: readonly Account[], now = Date.now()): Promise<Account[]> {
  return db.transaction(async (tx) => {
    // Two windows saving at once must not leave the accounts of both.
    await tx.select({ id: jobs.id }).from(jobs).where(eq(jobs.id, jobId)).for("update");
    const known = (await findAccounts(tx, jobId)).flatMap((each) => [each.lost, each.lastSaved, each.lastSeen]);
    const stored = values.map((each) => ({
      ...each,
      lost: meant(each.lost, known, now),
      lastSaved: meant(each.lastSaved, known, now),
      lastSeen: meant(each.lastSeen, known, now),
    }));
    await tx.delete(accounts).where(eq(accounts.jobId, jobId));
    await tx.insert(accounts).values(stored.map((each, position) => ({ jobId, position, account: each })));
    await remember(tx, jobId, stored);
    await announce(tx, jobId);
    return stored;
  });
}

/** "Two weeks ago" means what it meant on the day it was said: words that stay as they are keep their time. */
function meant(moment: Moment | null, known: readonly (Moment | null)[], now: number): Account["lost"] {
  if (!moment) return null;
  const kept = known.find((each) => each?.text === moment.text);
  const { text, from, to } = kept ?? roughMoment(moment.text, now) ?? { text: moment.text, from: null, to: null };
  return { text, from, to };
}

async function remember(tx: Connection, jobId: number, stored: readonly Account[]): Promise<void> {
  const [last] = await tx.select().from(logEntries).where(eq(logEntries.jobId, jobId)).orderBy(desc(logEntries.id)).limit(1);
  if (last?.what === ACCOUNT_CHANGED && Date.now() - last.at.getTime() < ONE_CHANGE_MS) {
    await tx
      .update(logEntries)
      .set({ detail: { accounts: stored } })
      .where(sql`${logEntries.id} = ${last.id}`);
    return;
  }
  await note(tx, jobId, ACCOUNT_CHANGED, { accounts: stored });
}

import { eq } from "drizzle-orm";
import type { Moment } from "../../core/plan/account";
import { roughMoment } from "../../core/plan/rough-time";
import type { Database } from "../database/connection";
import { accounts, jobs } from "../database/schema";
import { note } from "../log/commands";
import { announce } from "../workers/queue";
import type { Account } from "./contract";
import { ACCOUNT_CHANGED, findAccounts } from "./queries";

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
    await note(tx, jobId, ACCOUNT_CHANGED, { accounts: stored });
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

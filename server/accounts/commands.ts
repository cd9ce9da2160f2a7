import type { Database } from "../database/connection";
import { accounts } from "../database/schema";
import { note } from "../log/commands";
import type { Account } from "./contract";

export async function saveAccount(db: Database, jobId: number, values: Account): Promise<void> {
  await db.transaction(async (tx) => {
    const row = { ...values, updatedAt: new Date() };
    await tx
      .insert(accounts)
      .values({ jobId, ...row })
      .onConflictDoUpdate({ target: accounts.jobId, set: row });
    await note(tx, jobId, "Account changed", { ...values });
  });
}

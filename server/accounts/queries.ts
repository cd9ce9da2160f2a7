import { eq } from "drizzle-orm";
import type { Connection } from "../database/connection";
import { accounts } from "../database/schema";
import { type Account, account, EMPTY_ACCOUNT } from "./contract";

export async function findAccount(db: Connection, jobId: number): Promise<Account> {
  const [row] = await db.select().from(accounts).where(eq(accounts.jobId, jobId));
  return row ? account.parse(row) : EMPTY_ACCOUNT;
}

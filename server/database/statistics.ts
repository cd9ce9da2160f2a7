import { sql } from "drizzle-orm";
import { log } from "../log/logger";
import type { Database } from "./connection";

/** Rows put into a table at once from which its statistics are taken anew. */
export const MANY_ROWS = 1_000;

/** Whether a table that grows passes a doubling of `MANY_ROWS`: as often are its statistics taken meanwhile. @param before rows then, and now */
export const hasDoubled = (before: number, now: number): boolean => {
  const doublings = (rows: number) => Math.floor(Math.log2(Math.max(rows, 1) / MANY_ROWS));
  return now >= MANY_ROWS && doublings(now) > doublings(before);
};

/**
 * Takes the statistics of tables anew, by which the database plans (PostgreSQL, ANALYZE). Its own do so a minute later at best: until then
 * it takes a table that just got many rows for the small one it was, and goes through all of it for each row it looks up. Failing changes
 * nothing but the speed.
 */
export async function refreshStatistics(db: Pick<Database, "execute">, ...tables: readonly string[]): Promise<void> {
  const names = sql.join(tables.map(sql.identifier), sql`, `);
  await db.execute(sql`analyze ${names}`).catch((error: Error) => log.warn({ tables, error: error.message }, "statistics were not taken"));
}

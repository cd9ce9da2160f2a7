import { type SQL, sql } from "drizzle-orm";
import type { Connection } from "../database/connection";
import type { ItemFilter } from "./contract";
import { filterCondition } from "./filter";
import { rowsThat } from "./version-rows";

/** Beyond as many matches a page is filled sooner by walking the order's index than by finding all and sorting them. */
export const BROAD = 3000;
/** Beyond as many matches the newest versions of all items are found sooner than those of items with a match. */
const MOST_LOOKED_UP = 50_000;

/**
 * The rows of a list that a filter leaves, as a table.
 * @param without one way of narrowing to leave out
 */
export async function matchingRows(db: Connection, jobId: number, filter: ItemFilter, without?: keyof ItemFilter): Promise<SQL> {
  const where = await filterCondition(db, jobId, filter, without);
  const scope = without ? { ...filter, [without]: undefined } : filter;
  const few = filter.rows === "newest" && (await guessedCount(db, jobId, filter, where)) < MOST_LOOKED_UP;
  return rowsThat(jobId, scope, where, few);
}

/** How many rows of a list the database takes to match a condition, from its statistics; of newest versions, how many versions. */
export async function guessedCount(db: Connection, jobId: number, filter: ItemFilter, where: SQL): Promise<number> {
  const rows = rowsThat(jobId, filter.rows ? { ...filter, rows: "each" } : filter, where, true);
  const { rows: plans } = await db.execute<{ "QUERY PLAN": { Plan: { "Plan Rows": number } }[] }>(
    sql`explain (format json) select 1 from ${rows} i`,
  );
  return plans[0]?.["QUERY PLAN"][0]?.Plan["Plan Rows"] ?? 0;
}

import { sql } from "drizzle-orm";
import { database } from "@/server/database/connection";
import { askToCheck } from "@/server/items/check";
import { itemFilter } from "@/server/items/contract";
import { filterCondition } from "@/server/items/filter";
import { answer, bodyAs, idFrom } from "@/server/respond";

/** Has the contents of all items that match a filter looked at, in the background. */
export const POST = answer(async (request, { job }: { job: string }) => {
  const { db } = database();
  const jobId = idFrom(job);
  const where = await filterCondition(db, jobId, await bodyAs(request, itemFilter));
  await askToCheck(db, jobId, sql`select i.best_copy_id from items i where ${where}`);
});

import { sql } from "drizzle-orm";
import { database } from "@/server/database/connection";
import { askToCheck } from "@/server/items/check";
import { itemFilter } from "@/server/items/contract";
import { filterCondition } from "@/server/items/filter";
import { matchingRows } from "@/server/items/version-rows";
import { answer, bodyAs, idFrom } from "@/server/respond";

/** Has the contents of all rows of a list that match a filter looked at, in the background. */
export const POST = answer(async (request, { job }: { job: string }) => {
  const { db } = database();
  const jobId = idFrom(job);
  const filter = await bodyAs(request, itemFilter);
  const where = await filterCondition(db, jobId, filter);
  const copy = filter.rows ? sql`i.id` : sql`i.best_copy_id`;
  await askToCheck(db, jobId, sql`select ${copy} from ${matchingRows(jobId, filter, where)} i`);
});

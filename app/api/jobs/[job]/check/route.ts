import { sql } from "drizzle-orm";
import { database } from "@/server/database/connection";
import { askToCheck } from "@/server/items/check";
import { itemFilter } from "@/server/items/contract";
import { matchingRows } from "@/server/items/matching";
import { answer, bodyAs, idFrom } from "@/server/respond";

/** Has the contents of all rows of a list that match a filter looked at, in the background. */
export const POST = answer(async (request, { job }: { job: string }) => {
  const { db } = database();
  const jobId = idFrom(job);
  const filter = await bodyAs(request, itemFilter);
  const copy = filter.rows ? sql`i.id` : sql`i.best_copy_id`;
  await askToCheck(db, jobId, sql`select ${copy} from ${await matchingRows(db, jobId, filter)} i`);
});

import { counting } from "@/server/database/connection";
import { itemQuery } from "@/server/items/contract";
import { positionOf } from "@/server/items/list";
import { answer, idFrom } from "@/server/respond";

/** Where a row stands in a list: by the id of its item, or of its copy in a list of versions. */
export const GET = answer(async (request, { job }: { job: string }) => {
  const { row = "", ...query } = Object.fromEntries(new URL(request.url).searchParams);
  return { index: await positionOf(counting().db, idFrom(job), itemQuery.parse(query), idFrom(row)) };
});

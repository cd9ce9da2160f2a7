import { counting } from "@/server/database/connection";
import { itemQuery } from "@/server/items/contract";
import { positionOf } from "@/server/items/list";
import { answer, idFrom } from "@/server/respond";

/** Where an item stands in a list. */
export const GET = answer(async (request, { job }: { job: string }) => {
  const { item = "", ...query } = Object.fromEntries(new URL(request.url).searchParams);
  return { index: await positionOf(counting().db, idFrom(job), itemQuery.parse(query), idFrom(item)) };
});

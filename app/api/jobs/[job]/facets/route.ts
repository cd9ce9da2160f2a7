import { database } from "@/server/database/connection";
import { itemQuery } from "@/server/items/contract";
import { countItems } from "@/server/items/queries";
import { answer, idFrom } from "@/server/respond";

export const GET = answer(async (request, { job }: { job: string }) =>
  countItems(database().db, idFrom(job), itemQuery.parse(Object.fromEntries(new URL(request.url).searchParams))),
);

import { database } from "@/server/database/connection";
import { answer, idFrom } from "@/server/respond";
import { resultQuery } from "@/server/restores/contract";
import { listResults } from "@/server/restores/queries";

/** A page of a restore's results. */
export const GET = answer(async (request, { restore }: { restore: string }) =>
  listResults(database().db, idFrom(restore), resultQuery.parse(Object.fromEntries(new URL(request.url).searchParams))),
);

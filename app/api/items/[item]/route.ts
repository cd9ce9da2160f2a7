import { database } from "@/server/database/connection";
import { chooseCopy } from "@/server/items/commands";
import { chooseCopy as contract } from "@/server/items/contract";
import { findItem } from "@/server/items/queries";
import { Problem } from "@/server/problem";
import { answer, bodyAs, idFrom } from "@/server/respond";

export const GET = answer(async (_request, { item }: { item: string }) => {
  const found = await findItem(database().db, idFrom(item));
  if (!found) throw new Problem("There is no such item.", 404);
  return found;
});
export const PATCH = answer(async (request, { item }: { item: string }) =>
  chooseCopy(database().db, idFrom(item), (await bodyAs(request, contract)).copyId),
);

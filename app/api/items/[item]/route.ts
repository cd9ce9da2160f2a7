import { database } from "@/server/database/connection";
import { findItem } from "@/server/items/queries";
import { Problem } from "@/server/problem";
import { answer, idFrom } from "@/server/respond";

export const GET = answer(async (_request, { item }: { item: string }) => {
  const found = await findItem(database().db, idFrom(item));
  if (!found) throw new Problem("There is no such item.", 404);
  return found;
});

import { database } from "@/server/database/connection";
import { chooseCopy } from "@/server/items/commands";
import { chooseCopy as contract } from "@/server/items/contract";
import { findItem } from "@/server/items/queries";
import { Problem } from "@/server/problem";
import { answer, bodyAs, idFrom } from "@/server/respond";

/** Copies asked for by their ids: the one that is open, one it is compared with, and one in hand. */
const MOST_ASKED_FOR = 3;

export const GET = answer(async (request, { item }: { item: string }) => {
  const asked = new URL(request.url).searchParams.getAll("copy").slice(0, MOST_ASKED_FOR).map(idFrom);
  const found = await findItem(database().db, idFrom(item), asked);
  if (!found) throw new Problem("There is no such item.", 404);
  return found;
});
export const PATCH = answer(async (request, { item }: { item: string }) =>
  chooseCopy(database().db, idFrom(item), (await bodyAs(request, contract)).copyId),
);

import { runTask } from "@/server/content/pool";
import { database } from "@/server/database/connection";
import { laying } from "@/server/pieces/contract";
import { dropPieces } from "@/server/pieces/keep";
import { answer, bodyAs, idFrom } from "@/server/respond";

/** The pieces a copy has, and what they come to. */
export const GET = answer(async (request, { copy }: { copy: string }) => runTask("pieces", [idFrom(copy), null], request.signal));

/** What other pieces would come to. Nothing is stored. */
export const POST = answer(async (request, { copy }: { copy: string }) => {
  const { pieces } = await bodyAs(request, laying);
  return runTask("pieces", [idFrom(copy), pieces], request.signal);
});

/** Keeps a copy with these pieces beside it. */
export const PUT = answer(async (request, { copy }: { copy: string }) => {
  const { pieces } = await bodyAs(request, laying);
  return runTask("keepPieces", [idFrom(copy), pieces]);
});

/** Takes such a copy away again. */
export const DELETE = answer(async (_request, { copy }: { copy: string }) => dropPieces(database().db, idFrom(copy)));

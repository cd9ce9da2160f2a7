import { database } from "@/server/database/connection";
import { answer, bodyAs, idFrom } from "@/server/respond";
import { startRestore } from "@/server/restores/commands";
import { startRestore as contract } from "@/server/restores/contract";
import { listRestores } from "@/server/restores/queries";

export const GET = answer(async (_request, { job }: { job: string }) => listRestores(database().db, idFrom(job)));
export const POST = answer(async (request, { job }: { job: string }) => ({
  id: await startRestore(database().db, idFrom(job), await bodyAs(request, contract)),
}));

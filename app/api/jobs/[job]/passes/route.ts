import { database } from "@/server/database/connection";
import { startPass } from "@/server/passes/commands";
import { startPass as contract } from "@/server/passes/contract";
import { listPasses } from "@/server/passes/queries";
import { answer, bodyAs, idFrom } from "@/server/respond";

export const GET = answer(async (_request, { job }: { job: string }) => listPasses(database().db, idFrom(job)));
export const POST = answer(async (request, { job }: { job: string }) => {
  const { storeId, place, options } = await bodyAs(request, contract);
  return { id: await startPass(database().db, idFrom(job), storeId, place, options) };
});

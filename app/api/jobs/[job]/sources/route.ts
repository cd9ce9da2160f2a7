import { database } from "@/server/database/connection";
import { answer, bodyAs, idFrom } from "@/server/respond";
import { addInnerSource, addSource } from "@/server/sources/commands";
import { addSource as contract } from "@/server/sources/contract";
import { listSources } from "@/server/sources/queries";

export const GET = answer(async (_request, { job }: { job: string }) => listSources(database().db, idFrom(job)));
export const POST = answer(async (request, { job }: { job: string }) => {
  const body = await bodyAs(request, contract);
  const { db } = database();
  return {
    id: await ("copyId" in body ? addInnerSource(db, idFrom(job), body.copyId) : addSource(db, idFrom(job), body.path, body.beside)),
  };
});

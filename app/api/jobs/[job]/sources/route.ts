import { database } from "@/server/database/connection";
import { answer, bodyAs, idFrom } from "@/server/respond";
import { addSource } from "@/server/sources/commands";
import { addSource as contract } from "@/server/sources/contract";
import { listSources } from "@/server/sources/queries";

export const GET = answer(async (_request, { job }: { job: string }) => listSources(database().db, idFrom(job)));
export const POST = answer(async (request, { job }: { job: string }) => {
  const { path, beside } = await bodyAs(request, contract);
  return { id: await addSource(database().db, idFrom(job), path, beside) };
});

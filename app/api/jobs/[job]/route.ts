import { database } from "@/server/database/connection";
import { changeJob } from "@/server/jobs/commands";
import { changeJob as contract } from "@/server/jobs/contract";
import { findJob } from "@/server/jobs/queries";
import { Problem } from "@/server/problem";
import { answer, bodyAs, idFrom } from "@/server/respond";
import { watchRestored } from "@/server/restores/watch";

export const GET = answer(async (_request, { job }: { job: string }) => {
  const found = await findJob(database().db, idFrom(job));
  if (!found) throw new Problem("There is no such job.", 404);
  watchRestored();
  return found;
});
export const PATCH = answer(async (request, { job }: { job: string }) =>
  changeJob(database().db, idFrom(job), await bodyAs(request, contract)),
);

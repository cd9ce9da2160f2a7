import { database } from "@/server/database/connection";
import { createJob } from "@/server/jobs/commands";
import { newJob } from "@/server/jobs/contract";
import { listJobs } from "@/server/jobs/queries";
import { answer, bodyAs } from "@/server/respond";
import { watchRestored } from "@/server/restores/watch";

export const dynamic = "force-dynamic";

export const GET = answer(async () => {
  watchRestored();
  return listJobs(database().db);
});
export const POST = answer(async (request) => ({ id: await createJob(database().db, await bodyAs(request, newJob)) }));

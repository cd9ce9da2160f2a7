import { runTask } from "@/server/content/pool";
import { answer, bodyAs, idFrom } from "@/server/respond";
import { plan } from "@/server/restores/contract";

/** What every target of the tray holds already. */
export const POST = answer(async (request, { job }: { job: string }) =>
  runTask("survey", [idFrom(job), await bodyAs(request, plan)], request.signal),
);

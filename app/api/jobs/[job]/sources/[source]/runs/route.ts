import { runTask } from "@/server/content/pool";
import { answer, idFrom, numberFrom } from "@/server/respond";

export const GET = answer(async (request, { job, source }: { job: string; source: string }) => {
  const wanted = new URL(request.url).searchParams;
  const [start, end] = [numberFrom(wanted, "start"), numberFrom(wanted, "end")];
  return Response.json({ runs: await runTask("usedRuns", [idFrom(job), idFrom(source), start, end], request.signal) });
});

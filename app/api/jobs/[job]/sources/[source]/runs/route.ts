import { runTask } from "@/server/content/pool";
import { answer, idFrom } from "@/server/respond";

export const GET = answer(async (request, { job, source }: { job: string; source: string }) => {
  const wanted = new URL(request.url).searchParams;
  const [start, end] = [Number(wanted.get("start")) || 0, Number(wanted.get("end")) || 0];
  return Response.json({ runs: await runTask("usedRuns", [idFrom(job), idFrom(source), start, end], request.signal) });
});

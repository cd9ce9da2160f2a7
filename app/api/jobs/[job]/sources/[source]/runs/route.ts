import { database } from "@/server/database/connection";
import { answer, idFrom } from "@/server/respond";
import { usedRuns } from "@/server/sources/used-runs";

export const GET = answer(async (request, { job, source }: { job: string; source: string }) => {
  const wanted = new URL(request.url).searchParams;
  const [start, end] = [Number(wanted.get("start")) || 0, Number(wanted.get("end")) || 0];
  return Response.json({ runs: await usedRuns(database().db, idFrom(job), idFrom(source), start, end) });
});

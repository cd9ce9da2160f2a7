import { runTask } from "@/server/content/pool";
import { joinQuery } from "@/server/records/contract";
import { answer, attachment, idFrom } from "@/server/respond";

export const GET = answer(async (request, { job }: { job: string }) => {
  const { copies } = joinQuery.parse(Object.fromEntries(new URL(request.url).searchParams));
  const body = new Uint8Array(await runTask("joinedDatabase", [idFrom(job), copies], request.signal));
  return new Response(body, { headers: { "Content-Type": "application/vnd.sqlite3", "Content-Disposition": attachment("joined.db") } });
});

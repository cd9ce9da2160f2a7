import { runTask } from "@/server/content/pool";
import { recordsQuery } from "@/server/records/contract";
import { answer, attachment, idFrom } from "@/server/respond";

export const GET = answer(async (request, { copy }: { copy: string }) => {
  const query = recordsQuery.parse(Object.fromEntries(new URL(request.url).searchParams));
  const { name, csv } = await runTask("recordsCsv", [idFrom(copy), query], request.signal);
  return new Response(csv, {
    headers: { "Content-Type": "text/csv; charset=utf-8; header=present", "Content-Disposition": attachment(`${name}.csv`) },
  });
});

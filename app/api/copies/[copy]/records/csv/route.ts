import { runTask } from "@/server/content/pool";
import { recordsQuery } from "@/server/records/contract";
import { answerInParts } from "@/server/records/in-parts";
import { answer, idFrom } from "@/server/respond";

export const GET = answer(async (request, { copy }: { copy: string }) => {
  const query = recordsQuery.parse(Object.fromEntries(new URL(request.url).searchParams));
  const partFrom = (from: number) => runTask("recordsCsv", [idFrom(copy), { ...query, from }], request.signal);
  return answerInParts(partFrom, "text/csv; charset=utf-8; header=present", "csv");
});

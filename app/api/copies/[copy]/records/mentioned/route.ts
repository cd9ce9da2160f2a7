import { runTask } from "@/server/content/pool";
import { togetherQuery } from "@/server/records/contract";
import { answer, idFrom } from "@/server/respond";

export const GET = answer(async (request, { copy }: { copy: string }) => {
  const query = togetherQuery.parse(Object.fromEntries(new URL(request.url).searchParams));
  return runTask("mentionedFiles", [idFrom(copy), query.with], request.signal);
});

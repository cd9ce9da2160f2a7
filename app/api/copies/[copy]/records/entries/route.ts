import { runTask } from "@/server/content/pool";
import { entriesQuery } from "@/server/records/contract";
import { answer, idFrom } from "@/server/respond";

export const GET = answer(async (request, { copy }: { copy: string }) => {
  const query = entriesQuery.parse(Object.fromEntries(new URL(request.url).searchParams));
  return runTask("entries", [idFrom(copy), query], request.signal);
});

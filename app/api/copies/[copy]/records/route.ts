import { runTask } from "@/server/content/pool";
import { recordsQuery } from "@/server/records/contract";
import { answer, idFrom } from "@/server/respond";

export const GET = answer(async (request, { copy }: { copy: string }) => {
  const query = recordsQuery.parse(Object.fromEntries(new URL(request.url).searchParams));
  return runTask("records", [idFrom(copy), query], request.signal);
});

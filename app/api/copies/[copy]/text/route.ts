import { runTask } from "@/server/content/pool";
import { answer, idFrom } from "@/server/respond";

export const GET = answer(async (request, { copy }: { copy: string }) =>
  runTask("text", [idFrom(copy), new URL(request.url).searchParams.get("encoding")], request.signal),
);

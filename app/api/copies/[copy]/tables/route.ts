import { runTask } from "@/server/content/pool";
import { answer, idFrom } from "@/server/respond";

export const GET = answer(async (request, { copy }: { copy: string }) => {
  const rows = new URL(request.url).searchParams.get("rows") === "compared" ? "compared" : "shown";
  return runTask("tables", [idFrom(copy), rows], request.signal);
});

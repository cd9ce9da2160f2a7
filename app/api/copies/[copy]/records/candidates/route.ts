import { runTask } from "@/server/content/pool";
import { answer, idFrom } from "@/server/respond";

export const GET = answer(async (request, { copy }: { copy: string }) => runTask("recordCandidates", [idFrom(copy)], request.signal));

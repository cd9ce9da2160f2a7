import { runTask } from "@/server/content/pool";
import { answer, idFrom } from "@/server/respond";

export const GET = answer(async (request, { copy }: { copy: string }) => runTask("form", [idFrom(copy)], request.signal));

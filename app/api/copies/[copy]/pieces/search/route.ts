import { runTask } from "@/server/content/pool";
import { answer, idFrom } from "@/server/respond";

/** Looks longer for the pieces of a file; who goes away ends it. */
export const POST = answer(async (request, { copy }: { copy: string }) => runTask("lookLonger", [idFrom(copy)], request.signal));

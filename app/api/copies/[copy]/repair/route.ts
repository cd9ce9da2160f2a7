import { runTask } from "@/server/content/pool";
import { answer, idFrom } from "@/server/respond";

export const GET = answer(async (request, { copy }: { copy: string }) => runTask("repair", [idFrom(copy)], request.signal));
export const POST = answer(async (_request, { copy }: { copy: string }) => runTask("writeRepaired", [idFrom(copy)]));

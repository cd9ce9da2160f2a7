import { runTask } from "@/server/content/pool";
import { answer } from "@/server/respond";

export const GET = answer(async (request) => runTask("browse", [new URL(request.url).searchParams.get("path")], request.signal));

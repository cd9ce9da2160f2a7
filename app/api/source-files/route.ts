import { runTask } from "@/server/content/pool";
import { database } from "@/server/database/connection";
import { answer, bodyAs } from "@/server/respond";
import { addFolder, removeFolder } from "@/server/sources/commands";
import { listFolder } from "@/server/sources/contract";

export const GET = answer(async (request) => runTask("browse", [new URL(request.url).searchParams.get("path")], request.signal));
export const POST = answer(async (request) => {
  const { path, listed } = await bodyAs(request, listFolder);
  await (listed ? addFolder : removeFolder)(database().db, path);
});

import { database } from "@/server/database/connection";
import { answer, bodyAs, idFrom } from "@/server/respond";
import { changeTray } from "@/server/tray/commands";
import { changeTray as contract } from "@/server/tray/contract";
import { findTray } from "@/server/tray/queries";

export const GET = answer(async (_request, { job }: { job: string }) => findTray(database().db, idFrom(job)));
export const POST = answer(async (request, { job }: { job: string }) => {
  const { items, chosen } = await bodyAs(request, contract);
  const { db } = database();
  await changeTray(db, idFrom(job), items, chosen);
  return findTray(db, idFrom(job));
});

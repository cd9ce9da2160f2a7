import { database } from "@/server/database/connection";
import { answer, bodyAs, idFrom } from "@/server/respond";
import { changeTray } from "@/server/tray/commands";
import { trayChange } from "@/server/tray/contract";
import { findTray } from "@/server/tray/queries";

export const GET = answer(async (_request, { job }: { job: string }) => findTray(database().db, idFrom(job)));
export const POST = answer(async (request, { job }: { job: string }) => {
  const { db } = database();
  await changeTray(db, idFrom(job), await bodyAs(request, trayChange));
  return findTray(db, idFrom(job));
});

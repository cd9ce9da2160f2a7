import { database } from "@/server/database/connection";
import { answer, bodyAs, idFrom } from "@/server/respond";
import { restoreChange } from "@/server/restores/contract";
import { changeRestore } from "@/server/restores/control";

/** Pauses, continues or stops a restore, or has the rest written elsewhere. @returns the id of the restore that goes on */
export const PATCH = answer(async (request, { restore }: { restore: string }) => ({
  id: await changeRestore(database().db, idFrom(restore), await bodyAs(request, restoreChange)),
}));

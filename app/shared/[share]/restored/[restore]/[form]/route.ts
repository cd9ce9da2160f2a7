import { database } from "@/server/database/connection";
import { atMost } from "@/server/limits";
import { Problem } from "@/server/problem";
import { answer, idFrom, numberFrom } from "@/server/respond";
import { archiveOf } from "@/server/restores/downloads";
import { permitted } from "@/server/shares/access";
import { checkSharedRestore, listSharedFiles } from "@/server/shares/queries";
import { whileOpen } from "@/server/shares/while-open";

/** The files of a restore: a page of their list, or all of them in one ZIP or TAR. */
export const GET = answer(async (request, { share, restore, form }: { share: string; restore: string; form: string }) => {
  const { db } = database();
  const id = idFrom(restore);
  const access = await permitted(db, share, request);
  await checkSharedRestore(db, access, id);
  if (form === "files") return listSharedFiles(db, id, numberFrom(new URL(request.url).searchParams, "after"));
  if (form === "zip" || form === "tar") return atMost(4, "archive", async () => whileOpen(db, access, await archiveOf(db, id, form)));
  throw new Problem("There is nothing at this address.", 404);
});

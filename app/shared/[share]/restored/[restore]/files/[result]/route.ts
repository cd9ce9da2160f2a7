import { database } from "@/server/database/connection";
import { answer, idFrom } from "@/server/respond";
import { fileOf } from "@/server/restores/downloads";
import { permitted } from "@/server/shares/access";
import { checkSharedRestore } from "@/server/shares/queries";

export const GET = answer(async (request, { share, restore, result }: { share: string; restore: string; result: string }) => {
  const { db } = database();
  await checkSharedRestore(db, await permitted(db, share, request), idFrom(restore));
  return fileOf(db, idFrom(restore), idFrom(result));
});

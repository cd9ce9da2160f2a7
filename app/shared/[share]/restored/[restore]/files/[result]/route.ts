import { database } from "@/server/database/connection";
import { answer, idFrom } from "@/server/respond";
import { fileOf } from "@/server/restores/downloads";
import { permitted } from "@/server/shares/access";
import { checkSharedRestore } from "@/server/shares/queries";
import { whileOpen } from "@/server/shares/while-open";

export const GET = answer(async (request, { share, restore, result }: { share: string; restore: string; result: string }) => {
  const { db } = database();
  const access = await permitted(db, share, request);
  await checkSharedRestore(db, access, idFrom(restore));
  return whileOpen(db, access, await fileOf(db, idFrom(restore), idFrom(result)));
});

import { database } from "@/server/database/connection";
import { answer } from "@/server/respond";
import { permitted } from "@/server/shares/access";
import { listSharedRestores } from "@/server/shares/queries";

export const GET = answer(async (request, { share }: { share: string }) => {
  const { db } = database();
  return listSharedRestores(db, await permitted(db, share, request));
});

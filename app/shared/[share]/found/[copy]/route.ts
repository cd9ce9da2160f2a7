import { database } from "@/server/database/connection";
import { atMost } from "@/server/limits";
import { answer, idFrom } from "@/server/respond";
import { permitted } from "@/server/shares/access";
import { foundFile } from "@/server/shares/downloads";
import { whileOpen } from "@/server/shares/while-open";

export const GET = answer(async (request, { share, copy }: { share: string; copy: string }) => {
  const { db } = database();
  const access = await permitted(db, share, request, "job");
  return atMost(8, "found", async () => whileOpen(db, access, await foundFile(db, access, idFrom(copy))));
});

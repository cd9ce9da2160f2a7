import { database } from "@/server/database/connection";
import { atMost } from "@/server/limits";
import { answer } from "@/server/respond";
import { permitted } from "@/server/shares/access";
import { chosenAsZip } from "@/server/shares/downloads";
import { whileOpen } from "@/server/shares/while-open";

/** What the client chose, as one ZIP. */
export const GET = answer(async (request, { share }: { share: string }) => {
  const { db } = database();
  const access = await permitted(db, share, request, "job");
  return atMost(2, "chosen", async () => whileOpen(db, access, await chosenAsZip(db, access)));
});

import { database } from "@/server/database/connection";
import { answer, bodyAs } from "@/server/respond";
import { permitted } from "@/server/shares/access";
import { choose } from "@/server/shares/commands";
import { choose as choice } from "@/server/shares/contract";
import { sumChoices } from "@/server/shares/queries";

export const GET = answer(async (request, { share }: { share: string }) => {
  const { db } = database();
  return sumChoices(db, await permitted(db, share, request, "job"));
});

export const POST = answer(async (request, { share }: { share: string }) => {
  const { db } = database();
  const access = await permitted(db, share, request, "job");
  const { copies, chosen } = await bodyAs(request, choice);
  await choose(db, access, copies, chosen);
});

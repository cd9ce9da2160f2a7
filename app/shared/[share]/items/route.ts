import { database } from "@/server/database/connection";
import { answer } from "@/server/respond";
import { permitted } from "@/server/shares/access";
import { sharedQuery } from "@/server/shares/contract";
import { sharedItems } from "@/server/shares/queries";

export const GET = answer(async (request, { share }: { share: string }) => {
  const { db } = database();
  const access = await permitted(db, share, request, "job");
  return sharedItems(db, access, sharedQuery.parse(Object.fromEntries(new URL(request.url).searchParams)));
});

import { database } from "@/server/database/connection";
import { answer, bodyAs, idFrom } from "@/server/respond";
import { revokeShare, takeChoices } from "@/server/shares/commands";
import { shareChange } from "@/server/shares/contract";

/** Ends a link, or takes over what was chosen by it. */
export const POST = answer(async (request, { job, share }: { job: string; share: string }) => {
  const { what } = await bodyAs(request, shareChange);
  const { db } = database();
  await (what === "revoke" ? revokeShare : takeChoices)(db, idFrom(job), idFrom(share));
});

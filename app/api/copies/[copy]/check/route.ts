import { database } from "@/server/database/connection";
import { checkCopy } from "@/server/items/check";
import { storedCopy } from "@/server/previews/content";
import { answer, idFrom } from "@/server/respond";

/** Looks at a copy's content, where nobody has yet. */
export const POST = answer(async (_request, { copy }: { copy: string }) => {
  const { db } = database();
  const { jobId, id } = await storedCopy(db, idFrom(copy));
  await checkCopy(db, jobId, id);
});

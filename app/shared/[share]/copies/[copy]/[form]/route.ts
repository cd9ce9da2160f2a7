import { database } from "@/server/database/connection";
import { previewAnswer } from "@/server/previews/answers";
import { Problem } from "@/server/problem";
import { answer, idFrom } from "@/server/respond";
import { permitted } from "@/server/shares/access";
import { checkSharedCopy } from "@/server/shares/queries";

/** A copy's content as the client is shown it. */
export const GET = answer(async (request, { share, copy, form }: { share: string; copy: string; form: string }) => {
  const { db } = database();
  const access = await permitted(db, share, request, "job");
  await checkSharedCopy(db, access, idFrom(copy));
  const given = previewAnswer(form, { db, copyId: idFrom(copy), request });
  if (!given) throw new Problem("There is nothing at this address.", 404);
  return given;
});

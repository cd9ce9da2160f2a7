import { database } from "@/server/database/connection";
import { previewAnswer } from "@/server/previews/answers";
import { Problem } from "@/server/problem";
import { answer, idFrom } from "@/server/respond";

/** A copy's content, in the form it is shown in. */
export const GET = answer(async (request, { copy, form }: { copy: string; form: string }) => {
  const given = previewAnswer(form, { db: database().db, copyId: idFrom(copy), request });
  if (!given) throw new Problem("There is nothing at this address.", 404);
  return given;
});

import { database } from "@/server/database/connection";
import { previewForm } from "@/server/items/preview";
import { findStoredCopy } from "@/server/items/queries";
import { Problem } from "@/server/problem";
import { answer, idFrom } from "@/server/respond";

export const GET = answer(async (_request, { copy }: { copy: string }) => {
  const stored = await findStoredCopy(database().db, idFrom(copy));
  if (!stored) throw new Problem("There is no such copy.", 404);
  return { form: await previewForm(stored) };
});

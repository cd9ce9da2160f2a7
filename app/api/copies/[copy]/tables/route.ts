import { database } from "@/server/database/connection";
import { storedCopy } from "@/server/previews/content";
import { tablesOf } from "@/server/previews/tables";
import { answer, idFrom } from "@/server/respond";

export const GET = answer(async (request, { copy }: { copy: string }) =>
  tablesOf(
    await storedCopy(database().db, idFrom(copy)),
    new URL(request.url).searchParams.get("rows") === "compared" ? "compared" : "shown",
  ),
);

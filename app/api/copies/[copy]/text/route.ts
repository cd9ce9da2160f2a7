import { database } from "@/server/database/connection";
import { storedCopy } from "@/server/previews/content";
import { textOf } from "@/server/previews/texts";
import { answer, idFrom } from "@/server/respond";

export const GET = answer(async (request, { copy }: { copy: string }) =>
  textOf(await storedCopy(database().db, idFrom(copy)), new URL(request.url).searchParams.get("encoding")),
);

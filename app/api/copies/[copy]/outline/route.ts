import { database } from "@/server/database/connection";
import { storedCopy } from "@/server/previews/content";
import { outlineFor } from "@/server/previews/raw";
import { answer, idFrom } from "@/server/respond";

export const GET = answer(async (_request, { copy }: { copy: string }) => outlineFor(await storedCopy(database().db, idFrom(copy))));

import { database } from "@/server/database/connection";
import { storedCopy } from "@/server/previews/content";
import { documentText } from "@/server/previews/texts";
import { answer, idFrom } from "@/server/respond";

export const GET = answer(async (_request, { copy }: { copy: string }) => documentText(await storedCopy(database().db, idFrom(copy))));

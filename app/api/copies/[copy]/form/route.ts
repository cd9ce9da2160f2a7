import { database } from "@/server/database/connection";
import { storedCopy } from "@/server/previews/content";
import { previewFacts } from "@/server/previews/facts";
import { answer, idFrom } from "@/server/respond";

export const GET = answer(async (_request, { copy }: { copy: string }) => previewFacts(await storedCopy(database().db, idFrom(copy))));

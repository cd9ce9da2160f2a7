import { database } from "@/server/database/connection";
import { archiveOf } from "@/server/previews/archives";
import { storedCopy } from "@/server/previews/content";
import { answer, idFrom } from "@/server/respond";

export const GET = answer(async (_request, { copy }: { copy: string }) => archiveOf(await storedCopy(database().db, idFrom(copy))));

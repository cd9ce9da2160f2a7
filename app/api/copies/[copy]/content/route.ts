import { database } from "@/server/database/connection";
import { atMost } from "@/server/limits";
import { storedCopy } from "@/server/previews/content";
import { playedContent } from "@/server/previews/raw";
import { answer, idFrom } from "@/server/respond";

export const GET = answer(async (request, { copy }: { copy: string }) =>
  atMost(24, "content", async () => playedContent(await storedCopy(database().db, idFrom(copy)), request.headers.get("range"))),
);

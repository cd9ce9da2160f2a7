import { database } from "@/server/database/connection";
import { atMost } from "@/server/limits";
import { answer, idFrom } from "@/server/respond";
import { archiveOf } from "@/server/restores/downloads";

export const GET = answer(async (_request, { restore }: { restore: string }) =>
  atMost(4, "archive", () => archiveOf(database().db, idFrom(restore), "tar")),
);

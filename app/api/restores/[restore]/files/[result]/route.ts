import { database } from "@/server/database/connection";
import { answer, idFrom } from "@/server/respond";
import { fileOf } from "@/server/restores/downloads";

export const GET = answer(async (_request, { restore, result }: { restore: string; result: string }) =>
  fileOf(database().db, idFrom(restore), idFrom(result)),
);

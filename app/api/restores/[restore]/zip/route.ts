import { database } from "@/server/database/connection";
import { answer, idFrom } from "@/server/respond";
import { zipOf } from "@/server/restores/downloads";

export const GET = answer(async (_request, { restore }: { restore: string }) => zipOf(database().db, idFrom(restore)));

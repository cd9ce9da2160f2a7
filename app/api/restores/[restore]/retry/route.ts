import { database } from "@/server/database/connection";
import { answer, idFrom } from "@/server/respond";
import { retryRestore } from "@/server/restores/commands";

export const POST = answer(async (_request, { restore }: { restore: string }) => retryRestore(database().db, idFrom(restore)));

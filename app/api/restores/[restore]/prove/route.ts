import { database } from "@/server/database/connection";
import { answer, idFrom } from "@/server/respond";
import { proveRestore } from "@/server/restores/commands";

/** Reads all files of a restore again and compares their hashes. */
export const POST = answer(async (_request, { restore }: { restore: string }) => proveRestore(database().db, idFrom(restore)));

import { accountHistoryOf } from "@/server/accounts/queries";
import { database } from "@/server/database/connection";
import { answer, idFrom } from "@/server/respond";

export const GET = answer(async (_request, { job }: { job: string }) => accountHistoryOf(database().db, idFrom(job)));

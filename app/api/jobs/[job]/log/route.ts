import { database } from "@/server/database/connection";
import { listLog } from "@/server/log/queries";
import { answer, idFrom } from "@/server/respond";

export const GET = answer(async (_request, { job }: { job: string }) => listLog(database().db, idFrom(job)));

import { database } from "@/server/database/connection";
import { answer, idFrom } from "@/server/respond";
import { listDeliveries } from "@/server/restores/rehearsal";

/** Where this job's files may be restored to. */
export const GET = answer(async (_request, { job }: { job: string }) => listDeliveries(database().db, idFrom(job)));

import { database } from "@/server/database/connection";
import { answer, idFrom } from "@/server/respond";
import { listFinds } from "@/server/sources/queries";

export const GET = answer(async (_request, { job }: { job: string }) => listFinds(database().db, idFrom(job)));

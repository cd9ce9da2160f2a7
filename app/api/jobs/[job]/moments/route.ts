import { database } from "@/server/database/connection";
import { listMoments } from "@/server/items/moments";
import { answer, idFrom } from "@/server/respond";

export const GET = answer(async (_request, { job }: { job: string }) => listMoments(database().db, idFrom(job)));

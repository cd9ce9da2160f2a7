import { database } from "@/server/database/connection";
import { findFits } from "@/server/plan/fits";
import { answer, idFrom } from "@/server/respond";

export const GET = answer(async (_request, { job }: { job: string }) => findFits(database().db, idFrom(job)));

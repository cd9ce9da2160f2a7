import { counting } from "@/server/database/connection";
import { countKinds } from "@/server/passes/queries";
import { answer, idFrom } from "@/server/respond";

export const GET = answer(async (_request, { job }: { job: string }) => countKinds(counting().db, idFrom(job)));

import { database } from "@/server/database/connection";
import { answer, bodyAs, idFrom } from "@/server/respond";
import { makeShare } from "@/server/shares/commands";
import { newShare } from "@/server/shares/contract";
import { listShares } from "@/server/shares/queries";

export const GET = answer(async (_request, { job }: { job: string }) => listShares(database().db, idFrom(job)));

export const POST = answer(async (request, { job }: { job: string }) =>
  makeShare(database().db, idFrom(job), await bodyAs(request, newShare)),
);

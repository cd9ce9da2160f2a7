import { database } from "@/server/database/connection";
import { changeHomes } from "@/server/homes/commands";
import { changeHomes as contract } from "@/server/homes/contract";
import { listHomes } from "@/server/homes/queries";
import { answer, bodyAs, idFrom } from "@/server/respond";

export const GET = answer(async (_request, { job }: { job: string }) => listHomes(database().db, idFrom(job)));
export const POST = answer(async (request, { job }: { job: string }) =>
  changeHomes(database().db, idFrom(job), await bodyAs(request, contract)),
);

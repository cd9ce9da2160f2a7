import { saveAccount } from "@/server/accounts/commands";
import { account } from "@/server/accounts/contract";
import { findAccount } from "@/server/accounts/queries";
import { database } from "@/server/database/connection";
import { answer, bodyAs, idFrom } from "@/server/respond";

export const GET = answer(async (_request, { job }: { job: string }) => findAccount(database().db, idFrom(job)));
export const PUT = answer(async (request, { job }: { job: string }) =>
  saveAccount(database().db, idFrom(job), await bodyAs(request, account)),
);

import { saveAccounts } from "@/server/accounts/commands";
import { accountList } from "@/server/accounts/contract";
import { findAccounts } from "@/server/accounts/queries";
import { database } from "@/server/database/connection";
import { answer, bodyAs, idFrom } from "@/server/respond";

export const GET = answer(async (_request, { job }: { job: string }) => findAccounts(database().db, idFrom(job)));
export const PUT = answer(async (request, { job }: { job: string }) =>
  saveAccounts(database().db, idFrom(job), await bodyAs(request, accountList)),
);

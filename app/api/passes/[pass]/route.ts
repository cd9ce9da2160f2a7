import { database } from "@/server/database/connection";
import { changePass } from "@/server/passes/commands";
import { changePass as contract } from "@/server/passes/contract";
import { answer, bodyAs, idFrom } from "@/server/respond";

export const PATCH = answer(async (request, { pass }: { pass: string }) =>
  changePass(database().db, idFrom(pass), (await bodyAs(request, contract)).wanted),
);

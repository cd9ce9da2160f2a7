import { database } from "@/server/database/connection";
import { removeRule, switchRule } from "@/server/places/commands";
import { switchRule as contract } from "@/server/places/contract";
import { answer, bodyAs } from "@/server/respond";

export const PATCH = answer(async (request, { rule }: { rule: string }) =>
  switchRule(database().db, rule, (await bodyAs(request, contract)).off),
);
export const DELETE = answer(async (_request, { rule }: { rule: string }) => removeRule(database().db, rule));

import { database } from "@/server/database/connection";
import { changePlan } from "@/server/plan/commands";
import { planChange } from "@/server/plan/contract";
import { findPlan } from "@/server/plan/queries";
import { answer, bodyAs, idFrom } from "@/server/respond";

export const GET = answer(async (_request, { job }: { job: string }) => findPlan(database().db, idFrom(job)));
export const POST = answer(async (request, { job }: { job: string }) =>
  changePlan(database().db, idFrom(job), await bodyAs(request, planChange)),
);

import { database } from "@/server/database/connection";
import { addRule } from "@/server/places/commands";
import { newRule } from "@/server/places/contract";
import { listRules } from "@/server/places/queries";
import { answer, bodyAs } from "@/server/respond";

export const GET = answer(async () => listRules(database().db));
export const POST = answer(async (request) => ({ id: await addRule(database().db, await bodyAs(request, newRule)) }));

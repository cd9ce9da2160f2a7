import { database } from "@/server/database/connection";
import { lookAtRepair, writeRepaired } from "@/server/repairs/repairs";
import { answer, idFrom } from "@/server/respond";

export const GET = answer(async (_request, { copy }: { copy: string }) => lookAtRepair(database().db, idFrom(copy)));
export const POST = answer(async (_request, { copy }: { copy: string }) => writeRepaired(database().db, idFrom(copy)));

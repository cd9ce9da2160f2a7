import { database } from "@/server/database/connection";
import { scope } from "@/server/items/contract";
import { listMoments } from "@/server/items/moments";
import { answer, idFrom } from "@/server/respond";

export const GET = answer(async (request, { job }: { job: string }) =>
  listMoments(database().db, idFrom(job), scope.parse(Object.fromEntries(new URL(request.url).searchParams))),
);

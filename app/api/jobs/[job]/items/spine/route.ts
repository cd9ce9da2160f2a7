import { counting } from "@/server/database/connection";
import { itemQuery } from "@/server/items/contract";
import { spineOf } from "@/server/items/list";
import { answer, idFrom } from "@/server/respond";

export const GET = answer(async (request, { job }: { job: string }) =>
  spineOf(counting().db, idFrom(job), itemQuery.parse(Object.fromEntries(new URL(request.url).searchParams))),
);

import { counting } from "@/server/database/connection";
import { itemFilter } from "@/server/items/contract";
import { sinceFacet } from "@/server/items/facets";
import { answer, idFrom } from "@/server/respond";

export const GET = answer(async (request, { job }: { job: string }) =>
  sinceFacet(counting().db, idFrom(job), itemFilter.parse(Object.fromEntries(new URL(request.url).searchParams))),
);

import { database } from "@/server/database/connection";
import { answer, idFrom, numberFrom } from "@/server/respond";
import { findOwner } from "@/server/sources/owners";

export const GET = answer(async (request, { job, source }: { job: string; source: string }) =>
  Response.json(await findOwner(database().db, idFrom(job), idFrom(source), numberFrom(new URL(request.url).searchParams, "at"))),
);

import { database } from "@/server/database/connection";
import { answer, bodyAs, idFrom, numberFrom } from "@/server/respond";
import { plan } from "@/server/restores/contract";
import { rehearsePage } from "@/server/restores/queries";

/** A page of the rehearsal. */
export const POST = answer(async (request, { job }: { job: string }) => {
  const page = numberFrom(new URL(request.url).searchParams, "page");
  return rehearsePage(database().db, idFrom(job), await bodyAs(request, plan), Number.isInteger(page) && page > 0 ? page : 0);
});

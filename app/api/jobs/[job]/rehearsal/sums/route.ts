import { counting } from "@/server/database/connection";
import { answer, bodyAs, idFrom } from "@/server/respond";
import { plan } from "@/server/restores/contract";
import { rehearseSums } from "@/server/restores/rehearsal";

/** Sums over all that would be written. */
export const POST = answer(async (request, { job }: { job: string }) =>
  rehearseSums(counting().db, idFrom(job), await bodyAs(request, plan)),
);

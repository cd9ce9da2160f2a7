import { database } from "@/server/database/connection";
import { answer, bodyAs, idFrom } from "@/server/respond";
import { plan } from "@/server/restores/contract";
import { rehearse } from "@/server/restores/queries";

export const POST = answer(async (request, { job }: { job: string }) => rehearse(database().db, idFrom(job), await bodyAs(request, plan)));

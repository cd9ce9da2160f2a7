import { z } from "zod";
import { database } from "@/server/database/connection";
import { answer, bodyAs, idFrom } from "@/server/respond";
import { plan } from "@/server/restores/contract";
import { TRAY_PARTS } from "@/server/restores/planned";
import { rehearsePage } from "@/server/restores/rehearsal";

const asked = z.object({ page: z.coerce.number().int().min(0).max(1_000_000).catch(0), only: z.enum(TRAY_PARTS).default("all") });

/** A page of the rehearsal: of all files, of those with gaps, or of those that cannot be written. */
export const POST = answer(async (request, { job }: { job: string }) => {
  const { page, only } = asked.parse(Object.fromEntries(new URL(request.url).searchParams));
  return rehearsePage(database().db, idFrom(job), await bodyAs(request, plan), page, only);
});

import { z } from "zod";
import { database } from "@/server/database/connection";
import { handoverFile } from "@/server/handover/answer";
import { AUDIENCES } from "@/server/handover/contract";
import { describeHandover, gatherReport, handoverOf } from "@/server/handover/report";
import { atMost } from "@/server/limits";
import { answer, idFrom } from "@/server/respond";

const asked = z.object({
  form: z.enum(["screen", "html", "pdf", "csv", "json"]).default("screen"),
  for: z.enum(AUDIENCES).default("client"),
});

/** The handover: for the screen, or as a file to keep. */
export const GET = answer(async (request, { job }: { job: string }) => {
  const { form, for: audience } = asked.parse(Object.fromEntries(new URL(request.url).searchParams));
  const { db } = database();
  if (form === "screen") return handoverOf(describeHandover(await gatherReport(db, idFrom(job)), audience));
  return atMost(4, "report", () => handoverFile(db, idFrom(job), form, audience));
});

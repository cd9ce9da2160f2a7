import { z } from "zod";
import { database } from "@/server/database/connection";
import { handoverFile } from "@/server/handover/answer";
import { describeHandover, gatherReport, handoverOf } from "@/server/handover/report";
import { atMost } from "@/server/limits";
import { answer } from "@/server/respond";
import { permitted } from "@/server/shares/access";

const asked = z.object({ form: z.enum(["screen", "html", "pdf"]).default("screen") });

/** The handover as it is written for the client. */
export const GET = answer(async (request, { share }: { share: string }) => {
  const { form } = asked.parse(Object.fromEntries(new URL(request.url).searchParams));
  const { db } = database();
  const { jobId } = await permitted(db, share, request);
  if (form === "screen") return handoverOf(describeHandover(await gatherReport(db, jobId), "client"));
  return atMost(4, "report", () => handoverFile(db, jobId, form, "client"));
});

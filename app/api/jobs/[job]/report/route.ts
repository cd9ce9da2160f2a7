import { Readable } from "node:stream";
import { z } from "zod";
import { database } from "@/server/database/connection";
import { AUDIENCES } from "@/server/handover/contract";
import { handoverAsHtml, reportAsCsv, reportAsJson } from "@/server/handover/forms";
import { describeHandover, gatherReport, handoverOf } from "@/server/handover/report";
import { atMost } from "@/server/limits";
import { answer, attachment, downloadName, idFrom } from "@/server/respond";

const TYPES = { html: "text/html; charset=utf-8", csv: "text/csv; charset=utf-8", json: "application/json" } as const;
const asked = z.object({
  form: z.enum(["screen", "html", "csv", "json"]).default("screen"),
  for: z.enum(AUDIENCES).default("client"),
});

/** The handover: for the screen, or as a file to keep. */
export const GET = answer(async (request, { job }: { job: string }) => {
  const { form, for: audience } = asked.parse(Object.fromEntries(new URL(request.url).searchParams));
  const { db } = database();
  if (form === "screen") return handoverOf(describeHandover(await gatherReport(db, idFrom(job)), audience));
  return atMost(4, "report", async () => {
    const report = await gatherReport(db, idFrom(job));
    const document = describeHandover(report, audience);
    const pieces = form === "html" ? handoverAsHtml(document) : form === "csv" ? reportAsCsv(report) : reportAsJson(report);
    const name = `${await downloadName(db, idFrom(job))}, handover${form === "html" ? ` for the ${audience}` : ""}.${form}`;
    return new Response(Readable.toWeb(Readable.from(pieces).map((piece: string) => Buffer.from(piece))) as ReadableStream, {
      headers: {
        "Content-Type": TYPES[form],
        "Content-Disposition": attachment(name),
        "Content-Security-Policy": "sandbox; default-src 'none'; style-src 'unsafe-inline'",
      },
    });
  });
});

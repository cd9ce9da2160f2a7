import { Readable } from "node:stream";
import { z } from "zod";
import { database } from "@/server/database/connection";
import { AUDIENCES } from "@/server/handover/contract";
import { handoverAsHtml, reportAsCsv, reportAsJson } from "@/server/handover/forms";
import { handoverAsPdf } from "@/server/handover/pdf/as-pdf";
import { describeHandover, gatherReport, type HandoverDocument, handoverOf, type Report } from "@/server/handover/report";
import { atMost } from "@/server/limits";
import { answer, attachment, downloadName, idFrom } from "@/server/respond";

const TYPES = {
  html: "text/html; charset=utf-8",
  pdf: "application/pdf",
  csv: "text/csv; charset=utf-8",
  json: "application/json",
} as const;
const fromText = (pieces: AsyncIterable<string>) => Readable.from(pieces).map((piece: string) => Buffer.from(piece));
const BODIES: Readonly<Record<keyof typeof TYPES, (report: Report, document: HandoverDocument) => Readable>> = {
  html: (_, document) => fromText(handoverAsHtml(document)),
  pdf: (_, document) => handoverAsPdf(document),
  csv: (report) => fromText(reportAsCsv(report)),
  json: (report) => fromText(reportAsJson(report)),
};
const asked = z.object({
  form: z.enum(["screen", "html", "pdf", "csv", "json"]).default("screen"),
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
    const name = `${await downloadName(db, idFrom(job))}, handover${form === "html" || form === "pdf" ? ` for the ${audience}` : ""}.${form}`;
    return new Response(Readable.toWeb(BODIES[form](report, document)) as ReadableStream, {
      headers: {
        "Content-Type": TYPES[form],
        "Content-Disposition": attachment(name),
        "Content-Security-Policy": "sandbox; default-src 'none'; style-src 'unsafe-inline'",
      },
    });
  });
});

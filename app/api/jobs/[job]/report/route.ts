import { z } from "zod";
import { database } from "@/server/database/connection";
import { gatherReport, reportAsCsv, reportAsHtml, reportAsJson } from "@/server/handover/report";
import { answer, idFrom } from "@/server/respond";

const FORMS = {
  html: { type: "text/html; charset=utf-8", write: reportAsHtml },
  csv: { type: "text/csv; charset=utf-8", write: reportAsCsv },
  json: { type: "application/json", write: reportAsJson },
} as const;
const form = z.enum(Object.keys(FORMS) as [keyof typeof FORMS, ...(keyof typeof FORMS)[]]);

/** The handover as a file to keep. */
export const GET = answer(async (request, { job }: { job: string }) => {
  const asked = form.parse(new URL(request.url).searchParams.get("form"));
  const report = await gatherReport(database().db, idFrom(job));
  return new Response(FORMS[asked].write(report), {
    headers: {
      "Content-Type": FORMS[asked].type,
      "Content-Disposition": `attachment; filename="handover-${report.job.id}.${asked}"`,
      "Content-Security-Policy": "sandbox; default-src 'none'; style-src 'unsafe-inline'",
    },
  });
});

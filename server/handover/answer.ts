import { Readable } from "node:stream";
import type { Connection } from "../database/connection";
import { attachment, downloadName } from "../respond";
import type { Audience } from "./contract";
import { handoverAsHtml, reportAsCsv, reportAsJson } from "./forms";
import { handoverAsPdf } from "./pdf/as-pdf";
import { describeHandover, gatherReport, type HandoverDocument, type Report } from "./report";

const TYPES = {
  html: "text/html; charset=utf-8",
  pdf: "application/pdf",
  csv: "text/csv; charset=utf-8",
  json: "application/json",
} as const;
export type HandoverForm = keyof typeof TYPES;

const fromText = (pieces: AsyncIterable<string>) => Readable.from(pieces).map((piece: string) => Buffer.from(piece));
const BODIES: Readonly<Record<HandoverForm, (report: Report, document: HandoverDocument) => Readable>> = {
  html: (_, document) => fromText(handoverAsHtml(document)),
  pdf: (_, document) => handoverAsPdf(document),
  csv: (report) => fromText(reportAsCsv(report)),
  json: (report) => fromText(reportAsJson(report)),
};

/** Answers with a job's handover as a file to keep. */
export async function handoverFile(db: Connection, jobId: number, form: HandoverForm, audience: Audience): Promise<Response> {
  const report = await gatherReport(db, jobId);
  const document = describeHandover(report, audience);
  const name = `${await downloadName(db, jobId)}, handover${form === "html" || form === "pdf" ? ` for the ${audience}` : ""}.${form}`;
  return new Response(Readable.toWeb(BODIES[form](report, document)) as ReadableStream, {
    headers: {
      "Content-Type": TYPES[form],
      "Content-Disposition": attachment(name),
      "Content-Security-Policy": "sandbox; default-src 'none'; style-src 'unsafe-inline'",
    },
  });
}

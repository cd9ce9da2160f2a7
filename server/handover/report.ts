import { paragraph } from "../accounts/contract";
import { findAccounts } from "../accounts/queries";
import type { Connection } from "../database/connection";
import { findJob } from "../jobs/queries";
import { listLog } from "../log/queries";
import { listPasses } from "../passes/queries";
import { findPlan } from "../plan/queries";
import { Problem } from "../problem";
import { listRestores } from "../restores/queries";
import { listSources } from "../sources/queries";

/** Everything a handover tells, gathered once for all its forms. */
export async function gatherReport(db: Connection, jobId: number) {
  const job = await findJob(db, jobId);
  if (!job) throw new Problem("There is no such job.", 404);
  const [accounts, plan, sources, passes, restores, log] = await Promise.all([
    findAccounts(db, jobId),
    findPlan(db, jobId),
    listSources(db, jobId),
    listPasses(db, jobId),
    listRestores(db, jobId),
    listLog(db, jobId),
  ]);
  return { job, accounts, told: accounts.map((each) => paragraph(each, job.timeZone)), plan, sources, passes, restores, log };
}
export type Report = Awaited<ReturnType<typeof gatherReport>>;

const HEAD = ["restore", "destination", "file", "result", "size in bytes", "SHA-256", "written to", "remark"];
/** RFC 4180: fields with commas, quotes or line ends stand in quotes. A leading sign would be taken for a formula by sheets. */
function field(value: string | number | null): string {
  const text = String(value ?? "");
  const plain = /^[=+\-@\t\r]/.test(text) ? `'${text}` : text;
  return /[",\r\n]/.test(plain) ? `"${plain.replaceAll('"', '""')}"` : plain;
}

/** The restored files, a line each. */
export function reportAsCsv({ restores }: Report): string {
  const lines = restores.flatMap((restore) =>
    restore.results.map((result) => [
      restore.id,
      restore.destination,
      result.path,
      result.state,
      result.size,
      result.state === "verified" ? result.sha256 : null,
      result.output,
      result.problem,
    ]),
  );
  return [HEAD, ...lines]
    .map((line) => line.map(field).join(","))
    .join("\r\n")
    .concat("\r\n");
}

/** All of it for another program. What only the drawing of the chart needs is left out. */
export function reportAsJson({ job, accounts, told, plan, sources, passes, restores, log }: Report): string {
  const plain = sources.map(({ volumes, ...source }) => ({ ...source, volumes: volumes.map(({ usage: _, ...volume }) => volume) }));
  return `${JSON.stringify({ job, accounts, told, plan, sources: plain, passes, restores, log }, null, 2)}\n`;
}

const safe = (text: string) => text.replace(/[&<>"']/g, (mark) => `&#${mark.charCodeAt(0)};`);
const list = (lines: readonly string[]) => `<ul>${lines.map((line) => `<li>${line}</li>`).join("")}</ul>`;

/** A page that stands alone: no scripts, nothing fetched. */
export function reportAsHtml(report: Report): string {
  const { job, told, plan, sources, passes, restores, log } = report;
  const moment = (date: Date) => date.toLocaleString("en-GB", { dateStyle: "medium", timeStyle: "short", timeZone: job.timeZone });
  const searched = sources.map((source) => {
    const own = passes.filter((pass) => pass.sourceId === source.id);
    const said = own.map(
      (pass) => `${safe(pass.volumeLabel)}: ${safe(pass.place)}, ${pass.state}, ${pass.foundLost} lost and ${pass.foundLive} live files`,
    );
    return `${safe(source.name)}, ${source.size} bytes${said.length > 0 ? list(said) : ": not searched"}`;
  });
  const found = plan.found ? `<p>Found: ${safe(`${plan.found.folder.slice(1)}/${plan.found.name}`)}.</p>` : "";
  const steps = list(
    plan.steps.map((step) => `${safe(`${step.title}, ${step.where}`)}: ${safe(step.state)}${step.note ? ` (${safe(step.note)})` : ""}`),
  );
  const files = restores.map((restore) => {
    const rows = restore.results
      .map(
        (result) =>
          `<tr><td>${safe(result.path)}</td><td>${result.state}</td><td>${result.size}</td><td><code>${result.state === "verified" ? safe(result.sha256 ?? "") : safe(result.problem ?? "")}</code></td></tr>`,
      )
      .join("");
    return `<h3>${safe(restore.destination)}, ${moment(restore.finishedAt ?? restore.createdAt)}</h3><table><thead><tr><th>File</th><th>Result</th><th>Bytes</th><th>SHA-256, read again</th></tr></thead><tbody>${rows}</tbody></table>`;
  });
  const done = log.map((entry) => `${moment(entry.at)}: ${safe(entry.what)} <code>${safe(JSON.stringify(entry.detail))}</code>`);
  return `<!doctype html>
<html lang="en"><head><meta charset="utf-8"><title>${safe(job.title)}</title>
<style>body{font:15px/1.5 sans-serif;max-width:60em;margin:3em auto;padding:0 1em;color:#16303d}table{border-collapse:collapse;width:100%}td,th{text-align:left;border-bottom:1px solid #dad6c9;padding:4px 8px;vertical-align:top}code{font-size:12px;overflow-wrap:anywhere}</style></head>
<body><h1>${safe(job.title)}</h1><p>${job.client ? `For ${safe(job.client)}. ` : ""}All times are ${safe(job.timeZone)}.</p>
<h2>What was lost</h2>${told.map((each) => `<p>${safe(each)}</p>`).join("")}${found}<h2>How it was looked for</h2>${steps}<h2>What was searched</h2>${list(searched)}
<h2>What was restored</h2>${files.join("") || "<p>Nothing has been restored.</p>"}<h2>What was done</h2>${list(done)}</body></html>
`;
}

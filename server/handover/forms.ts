import { safe } from "../html";
import { leftBehindText, readBackText, resultText } from "../words/contract";
import type { Block } from "./contract";
import { FORMAT, FORMAT_VERSION, handoverFacts, handoverRestore, handoverResult } from "./data";
import type { HandoverDocument, Report } from "./report";

const list = (lines: readonly string[]) => `<ul>${lines.map((line) => `<li>${line}</li>`).join("")}</ul>`;
const row = (cells: readonly string[], tag: "td" | "th") => `<tr>${cells.map((cell) => `<${tag}>${safe(cell)}</${tag}>`).join("")}</tr>`;

const STYLE =
  "body{font:15px/1.5 sans-serif;max-width:60em;margin:3em auto;padding:0 1em;color:#16303d}table{border-collapse:collapse;width:100%;table-layout:fixed}td,th{text-align:left;border-bottom:1px solid #dad6c9;padding:4px 8px;vertical-align:top;overflow-wrap:anywhere}.sign{display:inline-block;width:16em;margin:3em 2em 0 0;border-top:1px solid #16303d;padding-top:4px}";

/** A page that stands alone: no scripts, nothing fetched. It comes in pieces, because its tables may be long. */
export async function* handoverAsHtml({ title, lead, sections }: HandoverDocument): AsyncGenerator<string, void, void> {
  yield `<!doctype html>
<html lang="en"><head><meta charset="utf-8"><title>${safe(title)}</title><style>${STYLE}</style></head>
<body><h1>${safe(title)}</h1>${lead.map((line) => `<p>${safe(line)}</p>`).join("")}`;
  for (const section of sections) {
    yield `<h2>${safe(section.title)}</h2>`;
    for (const block of section.blocks) {
      if (block.kind !== "rows") {
        yield plainBlock(block);
        continue;
      }
      yield `<table><thead>${row(block.head, "th")}</thead><tbody>`;
      for await (const cells of block.rows()) yield row(cells, "td");
      yield "</tbody></table>";
    }
  }
  yield "</body></html>\n";
}

function plainBlock(block: Block): string {
  if (block.kind === "text") return `<p>${safe(block.text)}</p>`;
  if (block.kind === "list")
    return list(block.items.map(({ text, below }) => `${safe(text)}${below.length > 0 ? list(below.map(safe)) : ""}`));
  if (block.kind === "signature") return block.lines.map((line) => `<span class="sign">${safe(line)}</span>`).join("");
  return `<table><thead>${row(block.head, "th")}</thead><tbody>${block.rows.map((cells) => row(cells, "td")).join("")}</tbody></table>`;
}

const HEAD = [
  "restore",
  "destination",
  "file",
  "result",
  "size in bytes",
  "missing bytes",
  "SHA-256",
  "read again from",
  "written to",
  "remark",
];
/** RFC 4180: fields with commas, quotes or line ends stand in quotes. A leading sign would be taken for a formula by sheets. */
function field(value: string | number | null): string {
  const text = String(value ?? "");
  const plain = /^[=+\-@\t\r]/.test(text) ? `'${text}` : text;
  return /[",\r\n]/.test(plain) ? `"${plain.replaceAll('"', '""')}"` : plain;
}
const line = (values: readonly (string | number | null)[]) => `${values.map(field).join(",")}\r\n`;

/** The restored files, a line each. */
export async function* reportAsCsv({ restores }: Pick<Report, "restores">): AsyncGenerator<string, void, void> {
  yield line(HEAD);
  for (const restore of restores)
    for await (const result of restore.results()) {
      const { path, state, size, gaps, sha256, output, problem } = result;
      const missing = [...(gaps?.unreadable ?? []), ...(gaps?.foreign ?? [])].reduce((sum, { start, end }) => sum + end - start, 0);
      const written = state === "verified" || state === "gaps" || state === "same";
      yield line([
        restore.id,
        restore.destination || restore.root,
        path,
        resultText(result),
        size,
        written ? missing : null,
        written ? sha256 : null,
        written ? readBackText(result) : null,
        output,
        [problem, leftBehindText(result)].filter(Boolean).join(" "),
      ]);
    }
}

/** All of it for another program (docs/handover.schema.json), times as ISO 8601. What only the drawing of the chart needs is left out. */
export async function* reportAsJson({ restores, ...rest }: Report): AsyncGenerator<string, void, void> {
  const facts = JSON.stringify(handoverFacts.parse({ format: FORMAT, version: FORMAT_VERSION, ...rest }), null, 2);
  yield `${facts.slice(0, -2)},\n  "restores": [`;
  for (const [index, { results, ...restore }] of restores.entries()) {
    yield `${index > 0 ? "," : ""}\n    ${JSON.stringify(handoverRestore.parse(restore)).slice(0, -1)},"results":[`;
    let first = true;
    for await (const result of results()) {
      yield `${first ? "" : ","}\n      ${JSON.stringify(handoverResult.parse(result))}`;
      first = false;
    }
    yield "]}";
  }
  yield "\n  ]\n}\n";
}

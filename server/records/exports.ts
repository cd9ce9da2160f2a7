import { shortened } from "../../core/bytes/text";
import type { Entry } from "../../core/records/entries/entries";
import type { Connection } from "../database/connection";
import { safe } from "../html";
import type { StoredCopy } from "../items/queries";
import { Problem } from "../problem";
import { ENTRY_WORDS, rowStateText } from "../words/contract";
import type { EntriesQuery, EntryExport } from "./contract";
import { labelsOf, matchingEntries, openEntries, toRecordEntry } from "./entries";

/** Characters of a file that is written. */
const MOST_WRITTEN = 1 << 28;
/** Characters of a text that are written. */
const MOST_TEXT = 1 << 20;

const STYLE =
  "body{font:15px/1.5 sans-serif;max-width:60em;margin:3em auto;padding:0 1em;color:#16303d}h2{font-size:16px;margin:1.6em 0 .3em;border-bottom:1px solid #dad6c9}dl{margin:0}dl>div{display:grid;grid-template-columns:4em 11em 1fr;gap:0 1em;padding:2px 6px}dt{color:#51656e}dd{margin:0;white-space:pre-wrap;overflow-wrap:anywhere}.gone{background:#f1e6c8}small{display:block;color:#51656e}";

const timeText = (at: number | null) => (at === null ? "" : new Date(at).toISOString().slice(11, 16));
const dayText = (at: number | null) => (at === null ? "Without a time" : new Date(at).toISOString().slice(0, 10));

/** Says what an entry is about, a line each. */
function linesOf({ text, title, address, files, details, lastVisit }: Entry): string[] {
  return [
    ...[title, text, address].filter((line): line is string => line !== null).map((line) => shortened(line, MOST_TEXT)),
    ...files.map(({ name, path }) => `File: ${name}${path ? ` (${path})` : ""}`),
    ...details.map(([name, value]) => `${name}: ${value}`),
    ...(lastVisit ? ["Its last visit, as the list of pages says"] : []),
  ];
}

/** Writes entries as a page that stands alone: no scripts, nothing fetched. */
function asHtml(title: string, lead: readonly string[], entries: readonly Entry[], labels: ReadonlyMap<string, string>): string {
  const parts = [
    `<!doctype html>\n<html lang="en"><head><meta charset="utf-8"><title>${safe(title)}</title><style>${STYLE}</style></head>\n<body><h1>${safe(title)}</h1>`,
    ...lead.map((line) => `<p>${safe(line)}</p>`),
  ];
  let day: string | null = null;
  let length = 0;
  for (const entry of entries) {
    if (dayText(entry.at) !== day) {
      if (day !== null) parts.push("</dl>");
      day = dayText(entry.at);
      parts.push(`<h2>${safe(day)}</h2><dl>`);
    }
    const state = rowStateText(entry.row);
    const talk = entry.talk === null ? null : (labels.get(entry.talk) ?? null);
    const below = [talk && `In ${talk}`, state].filter(Boolean).join("; ");
    const part = `<div${entry.row.state === "deleted" ? ' class="gone"' : ""}><dt>${timeText(entry.at)}</dt><dd>${safe(entry.who ?? "")}</dd><dd>${linesOf(entry).map(safe).join("\n")}${below ? `<small>${safe(below)}</small>` : ""}</dd></div>`;
    length += part.length;
    if (length > MOST_WRITTEN) throw tooLarge();
    parts.push(part);
  }
  if (day !== null) parts.push("</dl>");
  parts.push("</body></html>\n");
  return parts.join("\n");
}

const tooLarge = () => new Problem("These are too many for one file. Narrow them by conversation or by days first.", 413);

/** Writes the entries that fit what is looked for as a page or as JSON. @throws Problem when the copy holds no database, or they are too many */
export async function exportEntries(
  db: Connection,
  copy: StoredCopy,
  query: EntriesQuery,
  form: EntryExport,
): Promise<{ name: string; text: string }> {
  const { opened, entries } = await openEntries(db, copy, query.with);
  const { kind, matched } = matchingEntries(entries, query);
  if (!kind)
    throw new Problem("This database holds nothing the bench knows as messages, visits or the like. Its tables can be saved as CSV.", 422);
  const labels = labelsOf(entries);
  const { many } = ENTRY_WORDS[kind];
  const name = `${copy.name}, ${many.toLowerCase()}`;
  if (form === "json") {
    const all = matched.map((entry) => toRecordEntry(entry, labels, MOST_TEXT));
    const text = `${JSON.stringify({ database: copy.name, kind, notes: opened.notes, entries: all }, null, 1)}\n`;
    if (text.length > MOST_WRITTEN) throw tooLarge();
    return { name, text };
  }
  const gone = matched.filter(({ row }) => row.state === "deleted").length;
  const lead = [
    `${matched.length} ${many.toLowerCase()}${opened.together.length > 0 ? ` of ${opened.together.length} databases read as one` : ""}. Times are in UTC.`,
    ...(gone > 0
      ? [`${gone} of them are deleted: they were put together from what is left in the database, and stand on a darker ground.`]
      : []),
    ...narrowed(query, labels),
    ...opened.notes,
  ];
  return { name, text: asHtml(name, lead, matched, labels) };
}

/** Says what was left out because something else was looked for. */
function narrowed({ talk, who, find, only, since, until }: EntriesQuery, labels: ReadonlyMap<string, string>): string[] {
  const by = [
    talk && `in “${labels.get(talk) ?? "no known conversation"}”`,
    who && `of ${who}`,
    find && `with “${find}”`,
    only !== "all" && `that are ${only}`,
    since && `from ${since} on`,
    until && `until ${until}`,
  ].filter(Boolean);
  return by.length > 0 ? [`Only those ${by.join(", ")}.`] : [];
}

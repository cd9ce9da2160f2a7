import { shortened } from "../../core/bytes/text";
import type { Entries } from "../../core/records/entries/entries";
import type { Entry } from "../../core/records/entries/entry";
import type { EntryKind } from "../../core/records/entries/kinds";
import type { Connection } from "../database/connection";
import { safe } from "../html";
import type { StoredCopy } from "../items/queries";
import { Problem } from "../problem";
import { ENTRY_WORDS, rowStateText } from "../words/contract";
import { type EntriesQuery, type EntryExport, type ExportPart, MOST_ON_A_PAGE } from "./contract";
import { matchingEntries, openAllEntries, toRecordEntry } from "./entries";

/** Entries, and characters, of one part of what is written. */
const ENTRIES_A_PART = 5_000;
const PART = 4 << 20;
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

/** Writes an entry as a line of a page. */
function asLine(entry: Entry, { talks }: Entries): string {
  const state = rowStateText(entry.row);
  const talk = entry.talk === null ? null : talks.labelOf(entry.talk);
  const below = [talk && `In ${talk}`, state].filter(Boolean).join("; ");
  return `<div${entry.row.state === "deleted" ? ' class="gone"' : ""}><dt>${timeText(entry.at)}</dt><dd>${safe(entry.who ?? "")}</dd><dd>${linesOf(entry).map(safe).join("\n")}${below ? `<small>${safe(below)}</small>` : ""}</dd></div>`;
}

/**
 * Writes the entries that fit what is looked for, a part at a time, as JSON or as a page that stands alone: no scripts, nothing fetched.
 * @throws Problem when the copy holds no database, or they are too many for a page
 */
export async function exportEntries(db: Connection, copy: StoredCopy, query: EntriesQuery, form: EntryExport): Promise<ExportPart> {
  const { opened, entries } = await openAllEntries(db, copy, query.with);
  const { kind, list, matched } = matchingEntries(entries, query);
  if (!kind || !list)
    throw new Problem("This database holds nothing the bench knows as messages, visits or the like. Its tables can be saved as CSV.", 422);
  if (form === "html" && matched.length > MOST_ON_A_PAGE)
    throw new Problem("These are too many for one page. Narrow them by conversation or by days first, or save them as JSON.", 413);
  const { many } = ENTRY_WORDS[kind];
  const name = `${copy.name}, ${many.toLowerCase()}`;
  const entryAt = (index: number) => (index < 0 ? undefined : list.at(matched[index] ?? -1));
  const parts: string[] = [];
  let [next, length] = [query.from, 0];
  let day = next === 0 ? null : dayText(entryAt(next - 1)?.at ?? null);
  if (next === 0) {
    if (form === "json") parts.push(jsonHead(copy.name, kind, opened.notes));
    else {
      const gone = [...matched].filter((place) => list.isDeletedAt(place)).length;
      const lead = [
        `${matched.length} ${many.toLowerCase()}${opened.together.length > 0 ? ` of ${opened.together.length} databases read as one` : ""}. Times are in UTC.`,
        ...(gone > 0
          ? [`${gone} of them are deleted: they were put together from what is left in the database, and stand on a darker ground.`]
          : []),
        ...narrowed(query, entries),
        ...opened.notes,
      ];
      parts.push(pageHead(name, lead));
    }
  }
  for (; next < matched.length && parts.length < ENTRIES_A_PART && length < PART; next += 1) {
    const entry = entryAt(next);
    if (!entry) continue;
    const opens = form === "html" && dayText(entry.at) !== day;
    const before = opens
      ? `${day === null ? "" : "</dl>\n"}<h2>${safe(dayText(entry.at))}</h2><dl>\n`
      : form === "json" && next > 0
        ? ",\n"
        : "";
    if (opens) day = dayText(entry.at);
    const part = before + (form === "json" ? JSON.stringify(toRecordEntry(entry, entries, MOST_TEXT)) : `${asLine(entry, entries)}\n`);
    length += part.length;
    parts.push(part);
  }
  const isLast = next >= matched.length;
  if (isLast) parts.push(form === "json" ? "\n]}\n" : `${day === null ? "" : "</dl>\n"}</body></html>\n`);
  return { name, text: parts.join(""), next: isLast ? null : next };
}

const pageHead = (title: string, lead: readonly string[]) =>
  [
    `<!doctype html>\n<html lang="en"><head><meta charset="utf-8"><title>${safe(title)}</title><style>${STYLE}</style></head>\n<body><h1>${safe(title)}</h1>`,
    ...lead.map((line) => `<p>${safe(line)}</p>`),
    "",
  ].join("\n");

/** The beginning of a JSON text up to its entries, a line each. */
const jsonHead = (database: string, kind: EntryKind, notes: readonly string[]) =>
  `${JSON.stringify({ database, kind, notes }).slice(0, -1)},"entries":[\n`;

/** Says what was left out because something else was looked for. */
function narrowed({ talk, who, find, only, since, until }: EntriesQuery, { talks }: Entries): string[] {
  const by = [
    talk && `in “${talks.labelOf(talk) ?? "no known conversation"}”`,
    who && `of ${who}`,
    find && `with “${find}”`,
    only !== "all" && `that are ${only}`,
    since && `from ${since} on`,
    until && `until ${until}`,
  ].filter(Boolean);
  return by.length > 0 ? [`Only those ${by.join(", ")}.`] : [];
}

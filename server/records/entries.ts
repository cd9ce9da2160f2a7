import { sql } from "drizzle-orm";
import { shortened } from "../../core/bytes/text";
import { type Entries, type Entry, NO_TALK, readEntries } from "../../core/records/entries/entries";
import { ENTRY_KINDS, type EntryKind } from "../../core/records/entries/kinds";
import type { Connection } from "../database/connection";
import type { StoredCopy } from "../items/queries";
import { type EntriesPage, type EntriesQuery, type RecordEntry, ROWS_AT_ONCE, type Together } from "./contract";
import { type Opened, openRecords } from "./opened";

/** Conversations and persons that are listed. */
const MOST_TALKS = 500;
const MOST_PERSONS = 100;
/** Characters of a text that are shown. */
const LONGEST = 20_000;

const read = new WeakMap<Opened, Entries>();

/** The rows of a database, or of several read as one, as what they are. */
export async function openEntries(db: Connection, copy: StoredCopy, together: Together): Promise<{ opened: Opened; entries: Entries }> {
  const opened = await openRecords(db, copy, together);
  let entries = read.get(opened);
  if (!entries) {
    entries = readEntries(opened.tables, Date.now() / 1000);
    read.set(opened, entries);
  }
  return { opened, entries };
}

/** The site of a page (RFC 3986, the host of its authority). */
function siteOf(address: string | null): string | null {
  const host = /^[a-z][a-z0-9+.-]*:\/\/(?:[^/?#@]*@)?([^/?#:]+)/i.exec(address ?? "");
  return host?.[1]?.toLowerCase() ?? null;
}

/** Who wrote it, or which site it is of. */
export const personOf = ({ kind, who, address }: Entry) => (kind === "visits" ? siteOf(address) : who);

/** The first moment of a day, month or year in UTC, and the first one after it, in milliseconds. */
function periodOf(text: string): [start: number, end: number] {
  const [year = 0, month, day] = text.split("-").map(Number);
  const start = Date.UTC(year, (month ?? 1) - 1, day ?? 1);
  const end =
    day !== undefined
      ? Date.UTC(year, (month ?? 1) - 1, day + 1)
      : month !== undefined
        ? Date.UTC(year, month, 1)
        : Date.UTC(year + 1, 0, 1);
  return [start, end];
}

/** The entries of the kind asked for that fit what is looked for. */
export function matchingEntries(entries: Entries, query: EntriesQuery): { kind: EntryKind | null; matched: readonly Entry[] } {
  const kind = query.kind ?? ENTRY_KINDS.find((each) => (entries.byKind.get(each)?.length ?? 0) > 0) ?? null;
  const all = (kind && entries.byKind.get(kind)) ?? [];
  const words = query.find.toLocaleLowerCase("en");
  const since = query.since === "" ? null : periodOf(query.since)[0];
  const until = query.until === "" ? null : periodOf(query.until)[1];
  const has = (text: string | null) => text?.toLocaleLowerCase("en").includes(words) === true;
  const fits = (entry: Entry) => {
    const { at, talk, text, title, address, who, files, details, row } = entry;
    if (query.only !== "all" && row.state !== query.only) return false;
    if (query.talk !== "" && (talk ?? NO_TALK) !== query.talk) return false;
    if (query.who !== "" && personOf(entry) !== query.who) return false;
    if (since !== null && (at === null || at < since)) return false;
    if (until !== null && (at === null || at >= until)) return false;
    return (
      words === "" ||
      [text, title, address, who].some(has) ||
      files.some(({ name }) => has(name)) ||
      details.some(([, value]) => has(value))
    );
  };
  return { kind, matched: all.filter(fits) };
}

/** An entry as it is sent. */
export function toRecordEntry(entry: Entry, labels: ReadonlyMap<string, string>, longest = LONGEST): RecordEntry {
  const { at, who, talk, title, text, address, files, details, lastVisit, table, row } = entry;
  const { state, confidence, uncommitted, from } = row;
  return {
    at,
    who,
    talk: talk === null ? null : (labels.get(talk) ?? null),
    title,
    text: text === null ? null : shortened(text, longest),
    address: address === null ? null : shortened(address, longest),
    files: [...files],
    details: details.map(([name, value]) => [name, value]),
    lastVisit: lastVisit === true,
    table,
    state,
    confidence,
    uncommitted,
    offset: row.at,
    from,
    in: row.in ? [...row.in] : null,
  };
}

export const labelsOf = ({ talks }: Entries) => new Map(talks.map(({ key, label }) => [key, label]));

function personsOf(all: readonly Entry[]): { name: string; entries: number }[] {
  const counts = new Map<string, number>();
  for (const entry of all) {
    const name = personOf(entry);
    if (name !== null) counts.set(name, (counts.get(name) ?? 0) + 1);
  }
  return [...counts]
    .map(([name, entries]) => ({ name, entries }))
    .sort((a, b) => b.entries - a.entries)
    .slice(0, MOST_PERSONS);
}

/** Reads a page of the entries of a database. @throws Problem when the copy holds none */
export async function entriesOf(db: Connection, copy: StoredCopy, query: EntriesQuery): Promise<EntriesPage> {
  const { opened, entries } = await openEntries(db, copy, query.with);
  const { kind, matched } = matchingEntries(entries, query);
  const labels = labelsOf(entries);
  const next = query.from + ROWS_AT_ONCE;
  return {
    kinds: ENTRY_KINDS.flatMap((each) => {
      const all = entries.byKind.get(each) ?? [];
      return all.length === 0
        ? []
        : [{ kind: each, entries: all.length, deleted: all.filter(({ row }) => row.state === "deleted").length }];
    }),
    kind,
    talks: entries.talks.slice(0, MOST_TALKS).map((talk) => ({ ...talk })),
    moreTalks: Math.max(0, entries.talks.length - MOST_TALKS),
    persons: personsOf((kind && entries.byKind.get(kind)) ?? []),
    entries: matched.slice(query.from, next).map((entry) => toRecordEntry(entry, labels)),
    matched: matched.length,
    next: next < matched.length ? next : null,
    together: await whereOf(db, opened.together),
    why: entries.why.map(({ table, kind: taken, why }) => ({ table, kind: taken, why: [...why] })),
    files: [...opened.files],
    notes: [...opened.notes],
  };
}

/** Where each of the copies that are read as one stands: its source and its folder. */
async function whereOf(db: Connection, copies: readonly StoredCopy[]): Promise<EntriesPage["together"]> {
  if (copies.length === 0) return [];
  const { rows } = await db.execute<{ id: string; name: string; folder: string; source: string }>(sql`
    select c.id, c.name, coalesce(f.path, '') as folder, s.name as source from copies c join stores v on v.id = c.store_id
    join sources s on s.id = v.source_id left join folders f on f.id = c.folder_id where c.id in ${copies.map(({ id }) => id)}`);
  return copies.flatMap(({ id }) => {
    const row = rows.find((each) => Number(each.id) === id);
    return row ? [{ copyId: id, name: row.name, where: `${row.source}${row.folder}` }] : [];
  });
}

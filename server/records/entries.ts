import { sql } from "drizzle-orm";
import { Stepwise } from "../../core/bytes/stepwise";
import { shortened } from "../../core/bytes/text";
import { type Entries, readEntries } from "../../core/records/entries/entries";
import type { Entry } from "../../core/records/entries/entry";
import type { EntryList } from "../../core/records/entries/entry-list";
import { ENTRY_KINDS, type EntryKind } from "../../core/records/entries/kinds";
import type { Connection } from "../database/connection";
import type { StoredCopy } from "../items/queries";
import { type EntriesPage, type EntriesQuery, type RecordEntry, ROWS_AT_ONCE, SLICE_MS, type Together, type Working } from "./contract";
import { type Opened, openRecords } from "./opened";

/** Conversations and persons that are listed. */
const MOST_TALKS = 500;
const MOST_PERSONS = 100;
/** Characters of a text that are shown. */
const LONGEST = 20_000;

const works = new WeakMap<Opened, Stepwise<Entries>>();

export interface OpenedEntries {
  readonly opened: Opened;
  /** null: what `working` says is still done. */
  readonly entries: Entries | null;
  readonly working: Working | null;
}

/** The rows of a database, or of several read as one, as what they are; reads on for some milliseconds (Infinity: to the end). */
export async function openEntries(db: Connection, copy: StoredCopy, together: Together, milliseconds: number): Promise<OpenedEntries> {
  const opened = await openRecords(db, copy, together, milliseconds);
  if (opened.reading !== null) return { opened, entries: null, working: { what: "rows", done: opened.reading } };
  let work = works.get(opened);
  if (!work) {
    work = new Stepwise(readEntries(opened.tables, Date.now() / 1000));
    works.set(opened, work);
  }
  const entries = work.run(milliseconds)?.value ?? null;
  return { opened, entries, working: entries ? null : { what: "entries", done: work.done } };
}

/** As {@link openEntries}, to the end. */
export async function openAllEntries(
  db: Connection,
  copy: StoredCopy,
  together: Together,
): Promise<{ readonly opened: Opened; readonly entries: Entries }> {
  const { opened, entries } = await openEntries(db, copy, together, Number.POSITIVE_INFINITY);
  if (!entries) throw new Error("entries that were read to the end are not there");
  return { opened, entries };
}

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

/** The entries of the kind asked for, and which of them fit what is looked for, by their places. */
export function matchingEntries(
  { byKind }: Entries,
  query: EntriesQuery,
): { readonly kind: EntryKind | null; readonly list: EntryList | null; readonly matched: Uint32Array } {
  const kind = query.kind ?? ENTRY_KINDS.find((each) => (byKind.get(each)?.length ?? 0) > 0) ?? null;
  const list = (kind && byKind.get(kind)) ?? null;
  const { find, only, talk, who } = query;
  const since = query.since === "" ? null : periodOf(query.since)[0];
  const until = query.until === "" ? null : periodOf(query.until)[1];
  return { kind, list, matched: list?.find({ words: find, only, talk, who, since, until }) ?? new Uint32Array() };
}

/** An entry as it is sent. */
export function toRecordEntry(entry: Entry, { talks }: Entries, longest = LONGEST): RecordEntry {
  const { at, who, talk, title, text, address, files, details, lastVisit, table, row } = entry;
  const { state, confidence, uncommitted, former, from } = row;
  return {
    at,
    who,
    talk: talk === null ? null : talks.labelOf(talk),
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
    former,
    offset: row.at,
    from,
    in: row.in ? [...row.in] : null,
  };
}

/** Reads a page of the entries of a database. While it is read there are none yet. @throws Problem when the copy holds none */
export async function entriesOf(db: Connection, copy: StoredCopy, query: EntriesQuery): Promise<EntriesPage> {
  const { opened, entries, working } = await openEntries(db, copy, query.with, SLICE_MS);
  const page = {
    working,
    together: await whereOf(db, opened.together),
    files: [...opened.files],
    notes: [...opened.notes],
  };
  if (!entries)
    return { ...page, kinds: [], kind: null, talks: [], moreTalks: 0, persons: [], entries: [], matched: 0, next: null, why: [] };
  const { kind, list, matched } = matchingEntries(entries, query);
  const next = query.from + ROWS_AT_ONCE;
  const shown = [...matched.subarray(query.from, next)].flatMap((place) => list?.at(place) ?? []);
  return {
    ...page,
    kinds: ENTRY_KINDS.flatMap((each) => {
      const all = entries.byKind.get(each);
      return all && all.length > 0 ? [{ kind: each, entries: all.length, deleted: all.deleted }] : [];
    }),
    kind,
    talks: entries.talks.longest(MOST_TALKS),
    moreTalks: Math.max(0, entries.talks.size - MOST_TALKS),
    persons: [...(list?.persons(MOST_PERSONS) ?? [])],
    entries: shown.map((entry) => toRecordEntry(entry, entries)),
    matched: matched.length,
    next: next < matched.length ? next : null,
    why: entries.why.map(({ table, kind: taken, why }) => ({ table, kind: taken, why: [...why] })),
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

import { shortened } from "../../bytes/text";
import type { Value } from "../sqlite/record";
import { secondsOf } from "../times";
import type { ColumnFacts } from "./columns";
import type { EntryKind } from "./kinds";
import { addressesOf, type EntryTable, labelOf, type Role, recogniseEntryTables } from "./recognise";
import type { RecordRow, RecordTable } from "./table";

/** A file that was sent or received, as its row describes it. */
export interface SentFile {
  readonly name: string;
  readonly path: string | null;
  readonly size: number | null;
  readonly type: string | null;
  /** What is left of its row does not count any more. */
  readonly deleted: boolean;
}

/** A row as what it is: a message, a visit, a file sent or received, somebody who is known, a note. */
export interface Entry {
  readonly kind: EntryKind;
  /** UTC milliseconds; null: not known. */
  readonly at: number | null;
  /** Who wrote it; null: not known. */
  readonly who: string | null;
  /** The key of its conversation in `Entries.talks`; null: it is in none, or not known in which. */
  readonly talk: string | null;
  readonly title: string | null;
  readonly text: string | null;
  /** The page that was visited, or the site. */
  readonly address: string | null;
  readonly files: readonly SentFile[];
  /** Of somebody who is known: what else stands in the row, by column. */
  readonly details: readonly (readonly [column: string, value: string])[];
  readonly table: string;
  readonly row: RecordRow;
  /** It is no row of a visit, but what the list of pages still says of the last one. */
  readonly lastVisit?: boolean;
}

export interface Talk {
  readonly key: string;
  readonly label: string;
  readonly entries: number;
  readonly deleted: number;
  readonly first: number | null;
  readonly last: number | null;
}

export interface Entries {
  /** All entries of each kind, the earliest first; those whose time is not known at the end. */
  readonly byKind: ReadonlyMap<EntryKind, readonly Entry[]>;
  readonly talks: readonly Talk[];
  /** By table, what it was taken for and why. */
  readonly why: readonly { readonly table: string; readonly kind: EntryKind; readonly why: readonly string[] }[];
}

/** Letters of a detail that are kept. */
const LONGEST_DETAIL = 300;
/** Persons whose names stand for a conversation without a title. */
const NAMED_PERSONS = 3;
/** The latest moment a date can be (ECMA-262, 21.4.1.1), in milliseconds. */
const LATEST = 8.64e15;
/** The key of what is in no conversation, or not known in which. */
export const NO_TALK = "none";

const textOf = (value: Value | undefined): string | null =>
  typeof value === "string" ? (value === "" ? null : value) : typeof value === "number" || typeof value === "bigint" ? String(value) : null;

/** The tables of a database by the numbers of their rows. */
class Tables {
  readonly #labels = new Map<number, ReadonlyMap<string, string>>();
  readonly #rows = new Map<number, ReadonlyMap<string, RecordRow>>();

  constructor(
    readonly all: readonly RecordTable[],
    readonly facts: readonly (readonly ColumnFacts[])[],
  ) {}

  /** Rows of a table by number: what counts wins over what is left. */
  rows(table: number): ReadonlyMap<string, RecordRow> {
    const known = this.#rows.get(table);
    if (known) return known;
    const rows = new Map<string, RecordRow>();
    for (const row of this.all[table]?.rows ?? []) {
      const before = rows.get(String(row.rowid));
      if (row.rowid !== null && (!before || (before.state === "deleted" && row.state === "live"))) rows.set(String(row.rowid), row);
    }
    this.#rows.set(table, rows);
    return rows;
  }

  /** What each row of a table is called, by its number: its name or title, else how somebody is reached. */
  labels(table: number): ReadonlyMap<string, string> {
    const known = this.#labels.get(table);
    if (known) return known;
    const facts = this.facts[table] ?? [];
    const first = labelOf(facts);
    const others = facts.flatMap(({ reached }, column) => (reached >= 0.6 && column !== first ? [column] : []));
    const labels = new Map<string, string>();
    for (const [number, { values }] of this.rows(table)) {
      const label = [first, ...others]
        .map((column) => (column === undefined ? null : textOf(values[column])))
        .find((text) => text !== null);
      if (label) labels.set(number, label);
    }
    this.#labels.set(table, labels);
    return labels;
  }
}

function timeFrom(fact: ColumnFacts | undefined, value: Value | undefined): number | null {
  if (!fact?.time || (typeof value !== "number" && typeof value !== "bigint") || Number(value) === 0) return null;
  const at = Math.round(secondsOf(Number(value), fact.time) * 1000);
  return Math.abs(at) <= LATEST ? at : null;
}

function toFile(value: (role: Role) => Value | undefined, { state }: RecordRow): SentFile | null {
  const path = textOf(value("path"));
  const name = textOf(value("file")) ?? path?.split(/[\\/]/).at(-1) ?? null;
  if (!name) return null;
  const size = Number(value("size") ?? Number.NaN);
  return {
    name,
    path,
    size: Number.isSafeInteger(size) && size >= 0 ? size : null,
    type: textOf(value("type")),
    deleted: state === "deleted",
  };
}

/** Gives what a row of a recognised table is. @returns null when too little of it stands to say what it is about: it is shown in its table */
function toEntry(entryTable: EntryTable, row: RecordRow, tables: Tables): Entry | null {
  const { kind, roles, leads, facts } = entryTable;
  const table = tables.all[entryTable.table] as RecordTable;
  const column = (role: Role) => roles[role] ?? -1;
  const value = (role: Role) => row.values[column(role)];
  const entry: Entry = {
    kind,
    at: timeFrom(facts[column("time")], value("time")),
    who: textOf(value("person")),
    talk: null,
    title: textOf(value("title")),
    text: textOf(value("text")),
    address: textOf(value("address")) ?? textOf(value("host")),
    files: [],
    details: [],
    table: table.name,
    row,
  };
  if (kind === "visits") {
    if (leads.address !== undefined) return { ...entry, ...pageOf(leads.address, entry, tables) };
    return entry.address ? entry : null;
  }
  if (kind === "transfers") {
    const file = toFile(value, row);
    return file && { ...entry, files: [file] };
  }
  if (kind === "contacts") {
    const details = table.columns.flatMap((name, i) => {
      const text = row.values[i];
      return i === roles.title || typeof text !== "string" || text === "" ? [] : [[name, shortened(text, LONGEST_DETAIL)] as const];
    });
    return entry.title || details.length > 0 ? { ...entry, details } : null;
  }
  if (kind === "sites") return entry.address ? entry : null;
  if (entry.text === null) return null;
  const who = leads.person === undefined || entry.who === null ? entry.who : (tables.labels(leads.person).get(entry.who) ?? null);
  const talk = textOf(value("talk"));
  return { ...entry, who, talk: talk === null || leads.talk === undefined ? null : `${leads.talk}.${talk}` };
}

/** What the list of pages says of the page a visit leads to; nothing when its row is gone. */
function pageOf(table: number, { address: number, title }: Entry, tables: Tables): Pick<Entry, "address" | "title"> {
  const page = number === null ? undefined : tables.rows(table).get(number);
  const columns = addressesOf(tables.facts[table] ?? []);
  if (!page || columns === null) return { address: null, title };
  return {
    address: textOf(page.values[columns.address]),
    title: title ?? (columns.title === undefined ? null : textOf(page.values[columns.title])),
  };
}

/** Pages that no visit leads to any more, by the time of the last one the list of pages keeps. */
function* lastVisits(entryTable: EntryTable, tables: Tables): Generator<Entry> {
  const pages = entryTable.leads.address;
  const columns = pages === undefined ? null : addressesOf(tables.facts[pages] ?? []);
  if (pages === undefined || !columns) return;
  const visited = new Set(tables.all[entryTable.table]?.rows.map(({ values }) => String(values[entryTable.roles.address ?? -1])));
  for (const row of tables.all[pages]?.rows ?? []) {
    if (visited.has(String(row.rowid))) continue;
    const [address, title] = [columns.address, columns.title].map((column) => (column === undefined ? null : textOf(row.values[column])));
    if (!address) continue;
    const at = columns.time === undefined ? null : timeFrom(tables.facts[pages]?.[columns.time], row.values[columns.time]);
    const table = tables.all[pages]?.name ?? "";
    yield {
      kind: "visits",
      at,
      who: null,
      talk: null,
      title: title ?? null,
      text: null,
      address,
      files: [],
      details: [],
      table,
      row,
      lastVisit: true,
    };
  }
}

/** Puts the files sent with messages to them. */
function withFiles(messages: readonly Entry[], table: number, tables: Tables, found: readonly EntryTable[]): Entry[] {
  const files = new Map<string, SentFile[]>();
  for (const { kind, table: at, roles, leads } of found) {
    if (kind !== "transfers" || leads.message !== table) continue;
    for (const row of tables.all[at]?.rows ?? []) {
      const file = toFile((role) => row.values[roles[role] ?? -1], row);
      const message = textOf(row.values[roles.message ?? -1]);
      if (!file || message === null) continue;
      const own = files.get(message) ?? [];
      // Earlier versions of the same row name the same file.
      if (!own.some(({ name, size }) => name === file.name && size === file.size)) files.set(message, [...own, file]);
    }
  }
  return messages.map((entry) => ({ ...entry, files: files.get(String(entry.row.rowid)) ?? [] }));
}

function talksOf(messages: readonly Entry[], tables: Tables): Talk[] {
  const byKey = new Map<
    string,
    { entries: number; deleted: number; first: number | null; last: number | null; persons: Map<string, number> }
  >();
  for (const { talk, at, who, row } of messages) {
    const key = talk ?? NO_TALK;
    const own = byKey.get(key) ?? { entries: 0, deleted: 0, first: null, last: null, persons: new Map() };
    byKey.set(key, own);
    own.entries += 1;
    if (row.state === "deleted") own.deleted += 1;
    if (who !== null) own.persons.set(who, (own.persons.get(who) ?? 0) + 1);
    if (at !== null) [own.first, own.last] = [Math.min(own.first ?? at, at), Math.max(own.last ?? at, at)];
  }
  return [...byKey]
    .map(([key, { persons, ...counts }]) => ({ key, label: labelOfTalk(key, persons, tables), ...counts }))
    .sort((a, b) => b.entries - a.entries);
}

function labelOfTalk(key: string, persons: ReadonlyMap<string, number>, tables: Tables): string {
  if (key === NO_TALK) return "Not known in which";
  const [table, number] = [Number(key.slice(0, key.indexOf("."))), key.slice(key.indexOf(".") + 1)];
  const title = tables.labels(table).get(number);
  if (title) return title;
  const most = [...persons].sort((a, b) => b[1] - a[1]).slice(0, NAMED_PERSONS);
  return most.length > 0 ? most.map(([name]) => name).join(", ") : `Number ${number}`;
}

/** A file that came with a message has its sender, its conversation, and its time where its own row has none. */
function withMessage(file: Entry, number: Value | undefined, messages: ReadonlyMap<string, Entry>): Entry {
  const message = messages.get(textOf(number) ?? "");
  return message ? { ...file, at: file.at ?? message.at, who: file.who ?? message.who, talk: message.talk } : file;
}

/** Reads the rows of tables as what they are. @param now seconds since 1970 */
export function readEntries(all: readonly RecordTable[], now: number): Entries {
  const { found, facts } = recogniseEntryTables(all, now);
  const tables = new Tables(all, facts);
  const byTable = new Map<number, readonly Entry[]>();
  for (const entryTable of found) {
    const own = (all[entryTable.table]?.rows ?? []).flatMap((row) => toEntry(entryTable, row, tables) ?? []);
    if (entryTable.kind === "visits") for (const entry of lastVisits(entryTable, tables)) own.push(entry);
    byTable.set(entryTable.table, entryTable.kind === "messages" ? withFiles(own, entryTable.table, tables, found) : own);
  }
  const byKind = new Map<EntryKind, Entry[]>();
  for (const { kind, table, roles, leads } of found) {
    let own = byTable.get(table) ?? [];
    if (kind === "transfers" && leads.message !== undefined) {
      const messages = new Map((byTable.get(leads.message) ?? []).map((entry) => [String(entry.row.rowid), entry]));
      own = own.map((entry) => withMessage(entry, entry.row.values[roles.message ?? -1], messages));
    }
    byKind.set(kind, (byKind.get(kind) ?? []).concat(own));
  }
  const order = ({ at }: Entry) => at ?? Number.POSITIVE_INFINITY;
  for (const entries of byKind.values()) entries.sort((a, b) => (order(a) === order(b) ? 0 : order(a) - order(b)));
  return {
    byKind,
    talks: talksOf(byKind.get("messages") ?? [], tables),
    why: found.map(({ table, kind, why }) => ({ table: all[table]?.name ?? "", kind, why })),
  };
}

import { shortened } from "../../bytes/text";
import { RowsByNumber } from "../rows-by-number";
import type { Value } from "../sqlite/record";
import { secondsOf } from "../times";
import type { ColumnFacts } from "./columns";
import type { Entry, SentFile } from "./entry";
import { addressesOf, type EntryTable, labelOf, type Recognised, type Role } from "./recognise";
import type { RecordRow, RecordTable } from "./table";

/** Letters of a detail that are kept. */
const LONGEST_DETAIL = 300;
/** The latest moment a date can be (ECMA-262, 21.4.1.1), in milliseconds. */
const LATEST = 8.64e15;
/** Names of persons and conversations that are kept, of each table. */
const MOST_LABELS = 20_000;
/** Files of one message, and rows of one number that are looked at: more are no application's. */
const MOST_FILES = 1_000;

/** Which row an entry is made of. */
export interface EntryPlace {
  /** The recognised table, by its place among those found. */
  readonly found: number;
  /** The row, by its place in its table: that of a visit, or with `lastVisit` that of a page. */
  readonly row: number;
  readonly lastVisit: boolean;
}

const textOf = (value: Value | undefined): string | null =>
  typeof value === "string" ? (value === "" ? null : value) : typeof value === "number" || typeof value === "bigint" ? String(value) : null;

function timeFrom(fact: ColumnFacts | undefined, value: Value | undefined): number | null {
  if (!fact?.time || (typeof value !== "number" && typeof value !== "bigint") || Number(value) === 0) return null;
  const at = Math.round(secondsOf(Number(value), fact.time) * 1000);
  return Math.abs(at) <= LATEST ? at : null;
}

/** The value of a row in the column of a role. */
function valueIn({ values }: RecordRow, { roles }: EntryTable, role: Role): Value | undefined {
  const column = roles[role];
  return column === undefined ? undefined : values[column];
}

function toFile(row: RecordRow, table: EntryTable): SentFile | null {
  const path = textOf(valueIn(row, table, "path"));
  const name = textOf(valueIn(row, table, "file")) ?? path?.split(/[\\/]/).at(-1) ?? null;
  if (!name) return null;
  const size = Number(valueIn(row, table, "size") ?? Number.NaN);
  return {
    name,
    path,
    size: Number.isSafeInteger(size) && size >= 0 ? size : null,
    type: textOf(valueIn(row, table, "type")),
    deleted: row.state === "deleted",
  };
}

/** What stands in a row of a recognised table, before anything it leads to is followed. */
function toOwnEntry(row: RecordRow, entryTable: EntryTable, table: string): Entry {
  return {
    kind: entryTable.kind,
    at: timeFrom(entryTable.facts[entryTable.roles.time ?? -1], valueIn(row, entryTable, "time")),
    who: textOf(valueIn(row, entryTable, "person")),
    talk: null,
    title: textOf(valueIn(row, entryTable, "title")),
    text: textOf(valueIn(row, entryTable, "text")),
    address: textOf(valueIn(row, entryTable, "address")) ?? textOf(valueIn(row, entryTable, "host")),
    files: [],
    details: [],
    table,
    row,
  };
}

/** Of somebody who is known: all else that stands in the row, by column. */
const detailsOf = ({ values }: RecordRow, { roles }: EntryTable, { columns }: RecordTable): Entry["details"] =>
  columns.flatMap((name, i) => {
    const text = values[i];
    return i === roles.title || typeof text !== "string" || text === "" ? [] : [[name, shortened(text, LONGEST_DETAIL)] as const];
  });

/** Makes entries of the rows of recognised tables, one at a time: what an entry says is read from its row, and from those it leads to, whenever it is wanted. */
export class EntryReader {
  readonly #byNumber = new Map<number, RowsByNumber>();
  readonly #labels = new Map<number, Map<string, string | null>>();
  readonly #pages = new Map<number, ReturnType<typeof addressesOf>>();
  /** By recognised table of messages, and by each of files sent with them: the rows of files by the number of their message. */
  readonly #files = new Map<number, { readonly found: EntryTable; readonly rows: RowsByNumber }[]>();

  constructor(
    readonly all: readonly RecordTable[],
    readonly recognised: Recognised,
  ) {}

  /** Prepares the ways from rows to rows. Gives how many rows were gone through, from time to time. */
  *prepare(stepRows: number): Generator<number> {
    const { found } = this.recognised;
    const targets = new Set(found.flatMap(({ leads }) => Object.values(leads)).filter((table) => table !== undefined));
    for (const table of targets) {
      const byNumber = new RowsByNumber();
      this.#byNumber.set(table, byNumber);
      const { rows } = this.all[table] as RecordTable;
      for (let i = 0; i < rows.length; i += 1) {
        const number = rows.numberAt(i);
        if (number !== null) byNumber.add(number, i);
        if (i % stepRows === 0) yield i;
      }
    }
    for (const [messages, { kind, table }] of found.entries()) {
      if (kind !== "messages") continue;
      for (const each of found) {
        if (each.kind !== "transfers" || each.leads.message !== table) continue;
        const byMessage = new RowsByNumber();
        this.#files.set(messages, [...(this.#files.get(messages) ?? []), { found: each, rows: byMessage }]);
        const { rows } = this.all[each.table] as RecordTable;
        for (let i = 0; i < rows.length; i += 1) {
          const number = rows.valueAt(i, each.roles.message ?? -1);
          if (typeof number === "number" || typeof number === "bigint") byMessage.add(number, i);
          if (i % stepRows === 0) yield i;
        }
      }
    }
  }

  /** The places of a table's rows of a number: what counts before what is left. */
  #rowsOf(table: number, number: unknown): number[] {
    const rows: number[] = [];
    for (const row of this.#byNumber.get(table)?.rowsOf(number) ?? []) if (rows.push(row) >= MOST_FILES) break;
    const isLive = (row: number) => this.all[table]?.rows.stateAt(row) === "live";
    return rows.length < 2 ? rows : [...rows.filter(isLive), ...rows.filter((row) => !isLive(row))];
  }

  #rowOf(table: number, number: unknown): RecordRow | undefined {
    const [first] = this.#rowsOf(table, number);
    return first === undefined ? undefined : this.all[table]?.rows.at(first);
  }

  /** What a row of a table is called, by its number: its name or title, else how somebody is reached. */
  labelOf(table: number, number: string): string | null {
    const labels = this.#labels.get(table) ?? new Map<string, string | null>();
    this.#labels.set(table, labels);
    const known = labels.get(number);
    if (known !== undefined) return known;
    if (labels.size >= MOST_LABELS) labels.clear();
    const row = this.#rowOf(table, numberFrom(number));
    const facts = this.recognised.facts[table] ?? [];
    const first = labelOf(facts);
    const others = facts.flatMap(({ reached }, column) => (reached >= 0.6 && column !== first ? [column] : []));
    const texts = [first, ...others].map((column) => (row === undefined || column === undefined ? null : textOf(row.values[column])));
    const label = texts.find((text) => text !== null) ?? null;
    labels.set(number, label);
    return label;
  }

  /** Gives what a row of a recognised table is. @returns null when too little of it stands to say what it is about: it is shown in its table */
  read({ found, row: place, lastVisit }: EntryPlace): Entry | null {
    const entryTable = this.recognised.found[found];
    if (!entryTable) return null;
    if (lastVisit) return this.#lastVisit(entryTable, place);
    const table = this.all[entryTable.table] as RecordTable;
    const row = table.rows.at(place);
    if (!row) return null;
    const { kind, leads } = entryTable;
    const entry = toOwnEntry(row, entryTable, table.name);
    if (kind === "visits") {
      if (leads.address !== undefined)
        return { ...entry, ...this.#pageOf(leads.address, valueIn(row, entryTable, "address"), entry.title) };
      return entry.address ? entry : null;
    }
    if (kind === "transfers") {
      const file = toFile(row, entryTable);
      return file && this.#withMessage({ ...entry, files: [file] }, leads.message, valueIn(row, entryTable, "message"));
    }
    if (kind === "contacts") {
      const details = detailsOf(row, entryTable, table);
      return entry.title || details.length > 0 ? { ...entry, details } : null;
    }
    if (kind === "sites") return entry.address ? entry : null;
    if (entry.text === null) return null;
    if (kind === "notes") return entry;
    const who = leads.person === undefined || entry.who === null ? entry.who : this.labelOf(leads.person, entry.who);
    const talk = leads.talk === undefined ? null : textOf(valueIn(row, entryTable, "talk"));
    return { ...entry, who, talk: talk === null ? null : `${leads.talk}.${talk}`, files: this.#filesOf(found, row.rowid) };
  }

  /** What the list of pages says of the page a visit leads to; nothing when its row is gone. */
  #pageOf(table: number, number: Value | undefined, title: string | null): Pick<Entry, "address" | "title"> {
    const page = this.#rowOf(table, number);
    const columns = page && this.#pageColumns(table);
    if (!page || !columns) return { address: null, title };
    return {
      address: textOf(page.values[columns.address]),
      title: title ?? (columns.title === undefined ? null : textOf(page.values[columns.title])),
    };
  }

  #pageColumns(table: number): ReturnType<typeof addressesOf> {
    let columns = this.#pages.get(table);
    if (columns === undefined) {
      columns = addressesOf(this.recognised.facts[table] ?? []);
      this.#pages.set(table, columns);
    }
    return columns;
  }

  /** A page that no visit leads to any more, by the time of the last one the list of pages keeps. */
  #lastVisit({ leads }: EntryTable, place: number): Entry | null {
    const pages = leads.address ?? -1;
    const facts = this.recognised.facts[pages] ?? [];
    const columns = this.#pageColumns(pages);
    const row = this.all[pages]?.rows.at(place);
    const address = row && columns ? textOf(row.values[columns.address]) : null;
    if (!row || !columns || !address) return null;
    return {
      kind: "visits",
      who: null,
      talk: null,
      text: null,
      files: [],
      details: [],
      at: columns.time === undefined ? null : timeFrom(facts[columns.time], row.values[columns.time]),
      title: columns.title === undefined ? null : textOf(row.values[columns.title]),
      address,
      table: this.all[pages]?.name ?? "",
      row,
      lastVisit: true,
    };
  }

  /** The files sent with a message. Earlier versions of the same row name the same file. */
  #filesOf(messages: number, number: RecordRow["rowid"]): SentFile[] {
    const files: SentFile[] = [];
    let left = MOST_FILES;
    for (const { found, rows } of this.#files.get(messages) ?? []) {
      for (const place of rows.rowsOf(number)) {
        const row = this.all[found.table]?.rows.at(place);
        const file = row && toFile(row, found);
        if (file && !files.some(({ name, size }) => name === file.name && size === file.size)) files.push(file);
        left -= 1;
        if (left === 0) return files;
      }
    }
    return files;
  }

  /** A file that came with a message has its sender, its conversation, and its time where its own row has none. */
  #withMessage(file: Entry, table: number | undefined, number: Value | undefined): Entry {
    if (table === undefined) return file;
    const found = this.recognised.found.findIndex((each) => each.kind === "messages" && each.table === table);
    for (const row of found < 0 ? [] : this.#rowsOf(table, number)) {
      const message = this.read({ found, row, lastVisit: false });
      if (message) return { ...file, at: file.at ?? message.at, who: file.who ?? message.who, talk: message.talk };
    }
    return file;
  }
}

/** A number as it stands in a row's text; null: it is none. */
function numberFrom(text: string): number | bigint | null {
  if (!/^-?\d{1,20}$/.test(text)) return null;
  const number = Number(text);
  return Number.isSafeInteger(number) ? number : BigInt(text);
}

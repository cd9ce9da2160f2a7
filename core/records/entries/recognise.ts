import { RowsByNumber } from "../rows-by-number";
import { type ColumnFacts, describeColumns, leadsByName, SAMPLED, shareOfRows } from "./columns";
import type { EntryKind } from "./kinds";
import type { RecordTable } from "./table";

/** What a column is for, in a table that was recognised. */
export const ROLES = [
  "time",
  "text",
  "title",
  "person",
  "talk",
  "address",
  "host",
  "file",
  "path",
  "size",
  "type",
  "message",
  "reached",
] as const;
export type Role = (typeof ROLES)[number];

/** A table whose rows are entries of a kind. */
export interface EntryTable {
  readonly kind: EntryKind;
  /** Its place among the tables. */
  readonly table: number;
  readonly facts: readonly ColumnFacts[];
  /** Columns by what they are for. */
  readonly roles: Readonly<Partial<Record<Role, number | undefined>>>;
  /** Of roles whose column holds row numbers: the place of the table they lead to. */
  readonly leads: Readonly<Partial<Record<Role, number | undefined>>>;
  /** Why it was taken for that, in words, a column each. */
  readonly why: readonly string[];
}

/**
 * Names of columns as applications give them, in parts. Common practice, no published source: a name only decides between columns whose
 * content would do.
 */
const NAMED = {
  sent: /sent|creat|date|time|^at$|_at$|when|added|start/i,
  otherTime: /edit|read|deliver|receiv|modif|updat|expire|finish|end/i,
  text: /body|text|content|message|note|caption|snippet|comment/i,
  title: /title|subject|topic|headline|term/i,
  name: /display|shown|full|name|nick|alias|label/i,
  person: /author|sender|from|member|user|who|contact|person|people|participant|handle|buddy|friend|account|name|owner|writer/i,
  talk: /conv|talk|thread|chat|room|group|channel|dialog|session|peer|topic/i,
  size: /size|length|bytes/i,
  type: /type|mime|format/i,
  kept: /bookmark|favou?rit|keyword|saved/i,
} as const;

export interface Recognised {
  readonly found: readonly EntryTable[];
  /** What the columns of each table hold. */
  readonly facts: readonly (readonly ColumnFacts[])[];
}

class Looked {
  #numbers: RowsByNumber | null = null;

  constructor(
    readonly table: RecordTable,
    readonly at: number,
    readonly facts: readonly ColumnFacts[],
  ) {}

  /** Numbers of its rows. */
  get numbers(): RowsByNumber {
    if (this.#numbers) return this.#numbers;
    this.#numbers = new RowsByNumber();
    const { rows } = this.table;
    for (let i = 0; i < rows.length; i += 1) {
      const number = rows.numberAt(i);
      if (number !== null && !this.#numbers.has(number)) this.#numbers.add(number, i);
    }
    return this.#numbers;
  }
}

/** Texts of these shares are taken for what they look like. */
const MOSTLY = 0.8;
/** Rows that have to have a value, and the fewest rows that say anything. */
const FILLED = 0.3;
const FEWEST = 3;
/** Tables that are looked at. */
const MOST_TABLES = 100;

/** The columns that fit, the best first. */
function best(
  facts: readonly ColumnFacts[],
  fits: (fact: ColumnFacts) => boolean,
  score: (fact: ColumnFacts) => number,
): number | undefined {
  const fitting = facts.map((fact, column) => ({ fact, column })).filter(({ fact }) => fact.filled > 0 && fits(fact));
  return fitting.sort((a, b) => score(b.fact) - score(a.fact) || a.column - b.column)[0]?.column;
}

const timeOf = (facts: readonly ColumnFacts[]) =>
  best(
    facts,
    ({ time }) => time !== null,
    ({ name, filled }) => filled + (NAMED.sent.test(name) ? filled : 0) - (NAMED.otherTime.test(name) ? filled : 0),
  );

const isText = (fact: ColumnFacts) => fact.texts > 0.9 && fact.coded < 0.5 && fact.addresses < 0.5;
/** People say the same things again; states and reasons an application writes are fewer than these. */
const FEWEST_SAID = 40;
/** What somebody wrote: several words, seldom the same ones. */
const isProse = (fact: ColumnFacts) =>
  isText(fact) && fact.worded >= 0.3 && (fact.distinct >= 0.2 || fact.different >= FEWEST_SAID) && fact.fileNames < 0.5 && fact.paths < 0.5;
const proseOf = (facts: readonly ColumnFacts[]) =>
  best(
    facts,
    isProse,
    ({ name, length, filled }) =>
      (NAMED.text.test(name) ? 1000 : 0) + (NAMED.title.test(name) ? -500 : 0) + Math.min(length, 200) + filled / 1e4,
  );

/** The column by which a row of a table is called: a name or a title, else how somebody is reached. */
export const labelOf = (facts: readonly ColumnFacts[]) =>
  best(
    facts,
    (fact) => fact.texts > 0.9 && fact.coded < 0.5 && fact.addresses < 0.5 && fact.length <= 120,
    ({ name, reached, worded }) => (NAMED.title.test(name) ? 4 : 0) + (NAMED.name.test(name) ? 3 : 0) + worded - (reached > 0.5 ? 0.5 : 0),
  );

const holdsPersons = ({ table, facts }: Looked) =>
  facts.some(({ reached }) => reached >= 0.6) || (NAMED.person.test(table.name) && labelOf(facts) !== undefined);
const holdsTalks = ({ table, facts }: Looked) => NAMED.talk.test(table.name) || facts.some(({ name }) => NAMED.title.test(name));

/** Columns whose names are gone have their number for one. */
const NAMELESS = /^\d+$/;
const NEARLY_ALL = 0.8;
const ENOUGH = 8;
const MANY = 50;

interface Lead {
  readonly column: number;
  readonly target: Looked;
}

/** The column that leads to a table of a sort, by its name and by what it holds. */
function leadTo(own: Looked, all: readonly Looked[], named: RegExp, fits: (target: Looked) => boolean, not?: number): Lead | undefined {
  let found: (Lead & { score: number }) | undefined;
  for (const [column, fact] of own.facts.entries()) {
    if (!fact.integers || fact.time || column === not) continue;
    for (const target of all) {
      if (target === own || !fits(target)) continue;
      const isNameless = NAMELESS.test(fact.name);
      const byName = isNameless ? 0 : leadsByName(fact.name, target.table.name);
      if (!isNameless && byName === 0 && !named.test(fact.name)) continue;
      if (target.numbers.size === 0) continue;
      const share = shareOfRows(own.table, column, target.numbers);
      // Without names only numbers all of which are there say something, and the more the more different ones there are: a flag is a row's number, too.
      if (
        share === 0 ||
        (isNameless && (share < NEARLY_ALL || fact.differentNumbers < Math.max(FEWEST, Math.min(ENOUGH, target.numbers.size / 2))))
      )
        continue;
      const score = isNameless ? share + Math.min(1, fact.differentNumbers / MANY) : byName * 2 + (named.test(fact.name) ? 1.5 : 0) + share;
      if (score > (found?.score ?? 0)) found = { column, target, score };
    }
  }
  return found;
}

type Draft = Omit<EntryTable, "table" | "facts" | "why">;

function toTransfers(own: Looked, all: readonly Looked[]): Draft | null {
  const { facts, table } = own;
  const path = best(
    facts,
    ({ paths, texts }) => texts > 0.9 && paths >= MOSTLY,
    ({ filled }) => filled,
  );
  const file = best(
    facts,
    ({ fileNames, texts }) => texts > 0.9 && fileNames >= MOSTLY,
    ({ filled, name }) => filled + (NAMED.name.test(name) ? 1 : 0),
  );
  if (path === undefined && file === undefined) return null;
  const size = best(
    facts,
    ({ integers, time, name }) => integers && !time && NAMED.size.test(name),
    ({ filled }) => filled,
  );
  const message = leadTo(own, all, /message|msg|mail|post/i, (target) => toMessages(target, all) !== null);
  // Settings, too, are full of paths: somebody sent or got a file only where a moment, a size or a message stands beside its name.
  const time = timeOf(facts);
  if (time === undefined && size === undefined && !message) return null;
  if (table.rows.length < FEWEST && !message) return null;
  const type = best(
    facts,
    ({ name, texts }) => texts > 0.9 && NAMED.type.test(name),
    ({ filled }) => filled,
  );
  const address = best(
    facts,
    ({ addresses }) => addresses >= MOSTLY,
    ({ filled }) => filled,
  );
  return {
    kind: "transfers",
    roles: { time, file, path, size, type, address, message: message?.column },
    leads: { message: message?.target.at },
  };
}

/** The columns of a list of pages; null: it is none. */
export function addressesOf(
  facts: readonly ColumnFacts[],
): { address: number; title: number | undefined; time: number | undefined } | null {
  const address = best(
    facts,
    ({ addresses, texts }) => texts > 0.9 && addresses >= MOSTLY,
    ({ filled }) => filled,
  );
  if (address === undefined) return null;
  const title = best(
    facts,
    (fact) => isText(fact) && fact.hosts < 0.5,
    ({ name, filled }) => (NAMED.title.test(name) ? 1e6 : 0) + filled,
  );
  return { address, title, time: timeOf(facts) };
}

function toVisits(own: Looked, all: readonly Looked[]): Draft | null {
  const { facts, table } = own;
  const time = timeOf(facts);
  if (time === undefined || NAMED.kept.test(table.name)) return null;
  const page = addressesOf(facts);
  if (page) return { kind: "visits", roles: { time, address: page.address, title: page.title }, leads: {} };
  const lead = leadTo(own, all, /url|page|site|place|address|link|item/i, (target) => addressesOf(target.facts) !== null);
  if (!lead) return null;
  const title = best(facts, isText, ({ name, filled }) => (NAMED.title.test(name) ? 1e6 : 0) + filled);
  return { kind: "visits", roles: { time, address: lead.column, title }, leads: { address: lead.target.at } };
}

function toMessages(own: Looked, all: readonly Looked[]): Draft | null {
  const { facts } = own;
  const [time, text] = [timeOf(facts), proseOf(facts)];
  if (time === undefined || text === undefined || facts.some(({ addresses }) => addresses >= MOSTLY)) return null;
  if (facts.some((fact, column) => column !== text && fact.paths >= MOSTLY && fact.filled > own.table.rows.length / 2)) return null;
  const talk = leadTo(own, all, NAMED.talk, (target) => holdsTalks(target));
  const person = leadTo(own, all, NAMED.person, (target) => holdsPersons(target) && target !== talk?.target, talk?.column);
  const byText = person
    ? undefined
    : best(
        facts,
        (fact) => fact.texts > 0.9 && fact.distinct <= 0.5 && (fact.reached >= 0.6 || NAMED.person.test(fact.name)) && fact !== facts[text],
        ({ reached, filled }) => reached + filled / 1e6,
      );
  if (!person && byText === undefined && !talk) return null;
  return {
    kind: "messages",
    roles: { time, text, person: person?.column ?? byText, talk: talk?.column },
    leads: { person: person?.target.at, talk: talk?.target.at },
  };
}

function toNotes({ facts, table }: Looked): Draft | null {
  const [time, text] = [timeOf(facts), proseOf(facts)];
  if (time === undefined || text === undefined) return null;
  const fact = facts[text] as ColumnFacts;
  if (!/note|memo|journal|diary/i.test(table.name) && !(NAMED.text.test(fact.name) && fact.length >= 40)) return null;
  const title = best(
    facts,
    (each) => each !== fact && isText(each) && NAMED.title.test(each.name),
    ({ filled }) => filled,
  );
  return { kind: "notes", roles: { time, text, title }, leads: {} };
}

function toContacts({ facts, table }: Looked): Draft | null {
  const reached = best(
    facts,
    (fact) => fact.texts > 0.9 && fact.reached >= 0.6 && fact.distinct >= 0.5,
    ({ filled }) => filled,
  );
  const title = best(
    facts,
    (fact) => isText(fact) && fact.reached < 0.5 && fact.distinct >= 0.5 && NAMED.name.test(fact.name),
    ({ filled, name }) => filled + (/display|shown|full/i.test(name) ? 1 : 0),
  );
  if (reached === undefined || title === undefined || table.rows.length < 1) return null;
  return { kind: "contacts", roles: { title, reached }, leads: {} };
}

function toSites({ facts, table }: Looked): Draft | null {
  const host = best(
    facts,
    ({ hosts, texts }) => texts > 0.9 && hosts >= MOSTLY,
    ({ filled }) => filled,
  );
  if (host === undefined || table.rows.length < FEWEST || facts.some(({ addresses }) => addresses >= MOSTLY)) return null;
  return { kind: "sites", roles: { host, time: timeOf(facts) }, leads: {} };
}

/** In this order: what is sent with a message may have a text, what is visited a title, and a note is what nobody was written to. */
const RECOGNISED = [toTransfers, toVisits, toMessages, toNotes, toContacts, toSites] as const;

const ROLE_WORDS: Readonly<Record<Role, string>> = {
  time: "is when",
  text: "is what was written",
  title: "is what it is called",
  person: "is who",
  talk: "is in which conversation",
  address: "is the page",
  host: "is the site",
  file: "is the file's name",
  path: "is where the file went",
  size: "is its size",
  type: "is its type",
  message: "is the message it belongs to",
  reached: "is how somebody is reached",
};

/**
 * Recognises tables whose rows are messages, visits, files sent and received, contacts or notes, by what stands in their columns and what leads
 * where; names of columns decide only between those that would do. @param now seconds since 1970
 */
export function recogniseEntryTables(tables: readonly RecordTable[], now: number): Recognised {
  const all = tables.slice(0, MOST_TABLES).map((table, at) => new Looked(table, at, describeColumns(table, now)));
  const found: EntryTable[] = [];
  for (const own of all) {
    const filled = (column: number | undefined) =>
      column === undefined || (own.facts[column]?.filled ?? 0) >= Math.min(own.table.rows.length, SAMPLED) * FILLED;
    for (const recognise of RECOGNISED) {
      const draft = recognise(own, all);
      if (!draft) continue;
      const { time, text, address, file, path, host } = draft.roles;
      if (![time, text, address, file ?? path, host].every(filled)) continue;
      found.push({ ...draft, table: own.at, facts: own.facts, why: whyOf(draft, own, all) });
      break;
    }
  }
  // A list of pages that visits lead to is no second list of visits; what no visit leads to any more is given with them.
  const pages = new Set(found.flatMap(({ kind, leads }) => (kind === "visits" && leads.address !== undefined ? [leads.address] : [])));
  return { facts: all.map(({ facts }) => facts), found: found.filter(({ kind, table }) => kind !== "visits" || !pages.has(table)) };
}

function whyOf({ roles, leads }: Draft, own: Looked, all: readonly Looked[]): string[] {
  return ROLES.flatMap((role) => {
    const column = roles[role];
    if (column === undefined) return [];
    const fact = own.facts[column] as ColumnFacts;
    const target = leads[role];
    const how = target === undefined ? "" : `, by the rows of ${all[target]?.table.name} it leads to`;
    const name = NAMELESS.test(fact.name) ? `column ${Number(fact.name) + 1}` : fact.name;
    return [`${name} ${ROLE_WORDS[role]}${role === "time" ? ` (${fact.time?.words})` : how}`];
  });
}

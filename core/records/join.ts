import { stemOf } from "./column-names";
import type { RecordReader } from "./records";
import type { Row } from "./row";
import type { Value } from "./sqlite/record";
import { parseIndex, parseTable, type TableStatement } from "./sqlite/statement";
import { recogniseTimes } from "./times";

/** A database that may hold what others have lost. */
export interface Candidate {
  readonly name: string;
  readonly reader: Pick<RecordReader, "schema" | "rows" | "notes">;
}

export interface JoinedRow {
  readonly rowid: number | bigint | null;
  /** In the order of the table's columns. */
  readonly values: readonly Value[];
  /** Which candidates have it, by their place. */
  readonly from: readonly number[];
  /** Whether it counts in none of them: it was put together from what is left. */
  readonly deleted: boolean;
  /** How much of it stands in the one it was taken from; what does not is empty here, unless a remain of it in another one says the same otherwise. */
  readonly confidence: Row["confidence"];
}

export interface JoinedTable {
  readonly name: string;
  readonly columns: readonly string[];
  readonly hasRowId: boolean;
  /** Which columns are computed from others: nobody writes them. */
  readonly computed: readonly boolean[];
  /** What makes two rows the same one, in words. */
  readonly identity: string;
  readonly rows: readonly JoinedRow[];
  /** Other contents of the same rows: earlier or later versions, which are left out. */
  readonly versions: number;
  /** What is left of rows of which too little stands. */
  readonly leftOut: number;
}

export interface Joined {
  /** The statements of the candidate whose schema has the most columns. */
  readonly schema: readonly { readonly type: string; readonly name: string; readonly sql: string }[];
  readonly tables: readonly JoinedTable[];
  /** What could not be read or joined. */
  readonly notes: readonly string[];
  /** What is left out because it is no row of the client's. */
  readonly leftOut: readonly string[];
}

/** Rows of all candidates that are held at once. */
const MOST_ROWS = 3_000_000;

/** There are more rows than whoever asks has room for. */
export class TooManyRows extends Error {
  constructor(readonly most: number) {
    super(`more than ${most} rows`);
    this.name = "TooManyRows";
  }
}
/** Rows of a column that must differ for it to be taken for what names a row. */
const FEWEST_NAMED = 8;
/** Letters a text that names a row has at least, as a mean. */
const SHORTEST_NAME = 6;

interface Held {
  readonly candidate: number;
  readonly live: boolean;
  readonly row: Row;
}

interface Identity {
  readonly columns: readonly number[];
  readonly words: string;
  /** Whether it is a time with what the row leads to. */
  readonly isTime?: boolean;
}

/** A table as it is being joined. */
interface Draft {
  readonly name: string;
  readonly statement: TableStatement;
  readonly columns: readonly string[];
  readonly rows: Held[];
  /** The columns by which two rows are the same, and how that is said. */
  identity: Identity;
  /** Of a column the table whose row numbers it holds. */
  readonly leads: Map<number, Draft>;
  /** New row numbers by candidate and old one. */
  readonly numbers: Map<string, number | bigint>;
  /** Of a candidate those whose row numbers mean the same: copies of one installation's database at other times. */
  readonly kin: Map<number, readonly number[]>;
}

/**
 * Joins databases of the same kind: every row once, whichever of them has it. Two rows are the same by the key the schema declares (unless that is only
 * the row's number), else by a text that differs in all rows, else by time and what they lead to, else by their whole content. Row numbers
 * that different rows share are given anew, and columns that lead to them follow.
 * @param most rows there is room for; without it the first of them are joined, and that is noted @throws TooManyRows
 */
export function joinRecords(candidates: readonly Candidate[], most = Number.POSITIVE_INFINITY): Joined {
  const notes: string[] = [];
  const leftOut: string[] = [];
  const schemas = candidates.map(({ reader }) => reader.schema);
  const columnsOf = (schema: (typeof schemas)[number]) =>
    schema.reduce((sum, { type, sql }) => sum + (type === "table" ? (parseTable(sql)?.columns.length ?? 0) : 0), 0);
  const base = schemas.reduce((best, each) => (columnsOf(each) > columnsOf(best) ? each : best), schemas[0] ?? []);
  const drafts = new Map<string, Draft>();
  for (const { type, name, sql } of base) {
    const statement = type === "table" && !name.startsWith("sqlite_") ? parseTable(sql) : null;
    if (statement) drafts.set(name.toLowerCase(), draftOf(name, statement));
  }
  let held = 0;
  candidates.forEach(({ reader, name }, candidate) => {
    let [unknown, uncommitted] = [0, 0];
    for (const row of reader.rows()) {
      const draft = row.table === null ? null : drafts.get(row.table.toLowerCase());
      if (!draft) {
        if (row.table === null) unknown += 1;
        continue;
      }
      // What never counted is no row of the client's.
      if (row.uncommitted) {
        uncommitted += 1;
        continue;
      }
      if (held >= most) throw new TooManyRows(most);
      if (held++ >= MOST_ROWS) break;
      draft.rows.push({ candidate, live: row.state === "live", row: inColumns(row, draft) });
    }
    notes.push(...reader.notes.map((note) => `${name}: ${note}`));
    if (uncommitted > 0) leftOut.push(`${name}: ${uncommitted} rows that were written and never committed are left out.`);
    if (unknown > 0) notes.push(`${name}: ${unknown} rows whose table's name is gone are left out.`);
  });
  if (held > MOST_ROWS) notes.push(`Only the first ${MOST_ROWS} rows were joined.`);
  const all = [...drafts.values()];
  for (const draft of all) findLeads(draft, all);
  for (const draft of all) draft.identity = identityOf(draft, base);
  const tables: JoinedTable[] = [];
  for (const draft of parentsFirst(all)) tables.push(joinTable(draft));
  return {
    schema: base.filter(({ sql }) => sql !== ""),
    tables: all.map((draft) => tables.find(({ name }) => name === draft.name) as JoinedTable),
    notes,
    leftOut,
  };
}

const draftOf = (name: string, statement: TableStatement): Draft => ({
  name,
  statement,
  columns: statement.columns.map((column) => column.name),
  rows: [],
  identity: { columns: [], words: "" },
  leads: new Map(),
  numbers: new Map(),
  kin: new Map(),
});

/** A row of another candidate in the columns of the joined table: those it has not are as the schema fills them. */
function inColumns(row: Row, { columns, statement }: Draft): Row {
  if (row.columns.length === columns.length && row.columns.every((name, i) => name === columns[i])) return row;
  const values = columns.map((name, i) => {
    const at = row.columns.indexOf(name);
    return at < 0 ? (statement.columns[i]?.fallback ?? null) : row.values[at];
  });
  return { ...row, columns, values };
}

/** Finds columns that hold row numbers of a table: by their name, or where that says only that it is a number of something, by what they hold. */
function findLeads(draft: Draft, all: readonly Draft[]): void {
  draft.columns.forEach((name, column) => {
    const declared = draft.statement.columns[column];
    if (column === draft.statement.alias || (declared?.affinity !== "integer" && declared?.affinity !== "numeric")) return;
    const numbered = all.filter(({ statement, rows }) => statement.alias >= 0 && rows.length > 0);
    const stem = stemOf(name);
    const named = numbered
      .filter(
        (each) => stem !== "" && (stem === stemOf(each.name) || stem.endsWith(`_${stemOf(each.name)}`) || stem.endsWith(stemOf(each.name))),
      )
      .sort((a, b) => b.name.length - a.name.length)[0];
    const target = named ?? (/id$/i.test(name) ? byContent(draft, column, numbered) : undefined);
    if (target && (named !== target || holdsNumbersOf(draft, column, target))) draft.leads.set(column, target);
  });
}

/** Row numbers that count, by candidate. */
const keyOf = (candidate: number, number: number | bigint) => `${candidate} ${number}`;
const numbersOf = (draft: Draft) =>
  new Set(draft.rows.flatMap(({ candidate, row }) => (row.rowid === null ? [] : [keyOf(candidate, row.rowid)])));

/** Whether most of what stands in a column are numbers of rows of a table. */
function holdsNumbersOf(draft: Draft, column: number, target: Draft): boolean {
  const known = numbersOf(target);
  let [hits, all] = [0, 0];
  for (const { candidate, live, row } of draft.rows) {
    const value = row.values[column];
    if (!live || (typeof value !== "number" && typeof value !== "bigint") || value === 0) continue;
    all += 1;
    if (known.has(keyOf(candidate, value))) hits += 1;
  }
  return all === 0 || hits >= all * 0.5;
}

/** The smallest table that has rows of all the numbers in a column. */
function byContent(draft: Draft, column: number, targets: readonly Draft[]): Draft | undefined {
  const values = draft.rows.filter(({ live }) => live).map(({ candidate, row }) => [candidate, row.values[column]] as const);
  const numbers = values.filter(
    (each): each is readonly [number, number | bigint] => typeof each[1] === "number" || typeof each[1] === "bigint",
  );
  if (numbers.length === 0) return undefined;
  return targets
    .filter((target) => {
      const known = numbersOf(target);
      return numbers.every(([candidate, value]) => known.has(keyOf(candidate, value)));
    })
    .sort((a, b) => a.rows.length - b.rows.length)[0];
}

/** Chooses what makes two rows of a table the same one. */
function identityOf(draft: Draft, schema: RecordReader["schema"]): Identity {
  const { statement, columns, leads } = draft;
  const choose = (identity: readonly number[], words: string) => ({ columns: identity, words });
  const named = (list: readonly number[]) => list.map((i) => columns[i]).join(", ");
  const key = statement.key.filter((i) => i !== statement.alias);
  if (key.length > 0) return choose(key, `the declared key (${named(key)})`);
  const indexes = schema
    .filter(({ type, table }) => type === "index" && table.toLowerCase() === draft.name.toLowerCase())
    .map(({ sql }) => parseIndex(sql))
    .flatMap((index) => (index?.isUnique && index.isWhole ? [index.columns] : []))
    .map((names) => names.map((name) => columns.findIndex((each) => each.toLowerCase() === name.toLowerCase())));
  const unique = [...statement.unique, ...indexes].find((each) => each.length > 0 && !each.includes(-1) && !each.includes(statement.alias));
  if (unique) return choose(unique, `what is declared unique (${named(unique)})`);
  // What only stands in part says nothing of what rows have in common.
  const live = draft.rows.filter((each) => each.live && each.row.confidence === "whole");
  const distinct = (list: readonly number[]) => {
    const seen = new Set(live.map(({ candidate, row }) => JSON.stringify([candidate, ...list.map((i) => String(row.values[i] ?? ""))])));
    return live.length >= FEWEST_NAMED && seen.size >= live.length * 0.999;
  };
  const text = columns.findIndex((_, i) => {
    const lengths = live.map(({ row }) => (typeof row.values[i] === "string" ? (row.values[i] as string).length : -1));
    return (
      lengths.length > 0 &&
      lengths.every((length) => length > 0) &&
      lengths.reduce((a, b) => a + b, 0) >= SHORTEST_NAME * lengths.length &&
      distinct([i])
    );
  });
  if (text >= 0) return choose([text], `a text that differs in all rows (${named([text])})`);
  const now = Date.now() / 1000;
  const times = columns.flatMap((_, i) => {
    const numbers = live.flatMap(({ row }) =>
      typeof row.values[i] === "number" || typeof row.values[i] === "bigint" ? [row.values[i] as number] : [],
    );
    return numbers.length >= live.length * 0.9 && recogniseTimes(numbers.slice(0, 5000), now) ? [i] : [];
  });
  const [time] = times;
  const others = [...leads].filter(([, target]) => target !== draft).map(([column]) => column);
  if (time !== undefined && distinct([time, ...others]))
    return { ...choose([time, ...others], `time and what it belongs to (${named([time, ...others])})`), isTime: true };
  return choose(
    columns.map((_, i) => i).filter((i) => i !== statement.alias && leads.get(i) !== draft && !statement.columns[i]?.computed),
    "their whole content",
  );
}

/** Tables in an order in which what others lead to comes first. */
function parentsFirst(all: readonly Draft[]): Draft[] {
  const done: Draft[] = [];
  const visit = (draft: Draft, way: readonly Draft[]) => {
    if (done.includes(draft) || way.includes(draft)) return;
    for (const target of draft.leads.values()) visit(target, [...way, draft]);
    done.push(draft);
  };
  for (const draft of all) visit(draft, []);
  return done;
}

interface Merged {
  rowid: number | bigint | null;
  values: Value[];
  readonly from: Set<number>;
  readonly deleted: boolean;
  readonly confidence: Row["confidence"];
  readonly candidate: number;
  /** Columns of which nothing is known. */
  unknown: readonly number[];
}

function joinTable(draft: Draft): JoinedTable {
  const { statement, columns, leads, numbers } = draft;
  const taken = new Set<string>();
  let next = 1;
  const free = (wanted: number | bigint | null): number | bigint => {
    if (wanted !== null && !taken.has(String(wanted))) return wanted;
    while (taken.has(String(next))) next += 1;
    return next;
  };
  for (const { row } of draft.rows) if (typeof row.rowid === "number" && row.rowid >= next) next = row.rowid + 1;
  const merged = new Map<string, Merged>();
  // A row that leads to one that is gone everywhere is the same as one of its time.
  const led = draft.identity.columns.filter((i) => leads.has(i) && leads.get(i) !== draft);
  const rest = draft.identity.columns.filter((i) => !led.includes(i));
  const byRest = new Map<string, Merged>();
  const restOf = (values: readonly (Value | undefined)[]) => JSON.stringify(rest.map((i) => textOf(values[i] ?? null)));
  const leadsNowhere = (values: readonly (Value | undefined)[]) =>
    rest.length > 0 && led.some((i) => typeof values[i] === "number" && (values[i] as number) < 0);
  let [versions, leftOut] = [0, 0];
  // What counts comes first, whole ones before the others, of the candidate whose rows reach farthest; then what is left.
  const rank = ({ live, row }: Held) => (live ? 0 : 2) + (row.confidence === "whole" ? 0 : 1);
  const reach = latest(draft);
  const ordered = [...draft.rows].sort(
    (a, b) => rank(a) - rank(b) || (reach[b.candidate] ?? 0) - (reach[a.candidate] ?? 0) || a.candidate - b.candidate,
  );
  for (const held of ordered) {
    const { candidate, live, row } = held;
    const values = columns.map((_, i) =>
      leads.has(i) && leads.get(i) !== draft ? followed(leads.get(i) as Draft, candidate, row.values[i]) : row.values[i],
    );
    const known = draft.identity.columns.every((i) => values[i] !== undefined) && draft.identity.columns.some((i) => values[i] !== null);
    const complete = statement.columns.every(
      (column, i) => i === statement.alias || column.virtual || values[i] !== undefined || !column.notNull,
    );
    if (row.confidence === "guess" || !known || !complete) {
      leftOut += 1;
      continue;
    }
    const key = JSON.stringify(draft.identity.columns.map((i) => textOf(values[i] as Value)));
    const same = merged.get(key) ?? (draft.identity.isTime && leadsNowhere(values) ? byRest.get(restOf(values)) : undefined);
    if (same) {
      if (!same.from.has(candidate)) same.from.add(candidate);
      const isSame = (value: Value, i: number) =>
        i === statement.alias || leads.get(i) === draft || same.unknown.includes(i) || textOf(value) === textOf(values[i] ?? null);
      // A row of which some columns are lost is completed by one that says the same in the others. Those may have been other ones since: it stays a part.
      if (same.unknown.length > 0 && row.confidence === "whole" && same.values.every(isSame)) {
        for (const i of same.unknown) same.values[i] = values[i] ?? null;
        same.unknown = [];
      }
      if (!same.values.every(isSame)) versions += 1;
      if (row.rowid !== null && same.rowid !== null && !numbers.has(keyOf(candidate, row.rowid)))
        numbers.set(keyOf(candidate, row.rowid), same.rowid);
      continue;
    }
    const rowid = statement.withoutRowId ? null : free(row.rowid);
    if (rowid !== null) {
      taken.add(String(rowid));
      if (row.rowid !== null && !numbers.has(keyOf(candidate, row.rowid))) numbers.set(keyOf(candidate, row.rowid), rowid);
    }
    const own = values.map((value, i) => (i === statement.alias ? rowid : (value ?? null)));
    const unknown = values.flatMap((value, i) =>
      value === undefined && i !== statement.alias && !statement.columns[i]?.virtual ? [i] : [],
    );
    const one: Merged = { rowid, values: own, from: new Set([candidate]), deleted: !live, confidence: row.confidence, candidate, unknown };
    merged.set(key, one);
    if (draft.identity.isTime && !byRest.has(restOf(values))) byRest.set(restOf(values), one);
  }
  findKin(draft);
  // What leads to rows of the same table can be followed only now.
  for (const [column, target] of leads)
    if (target === draft)
      for (const each of merged.values()) each.values[column] = followed(draft, each.candidate, each.values[column]) ?? null;
  return {
    name: draft.name,
    columns,
    hasRowId: !statement.withoutRowId,
    computed: statement.columns.map(({ computed }) => computed),
    identity: draft.identity.words,
    rows: [...merged.values()].map(({ rowid, values, from, deleted, confidence }) => ({
      rowid,
      values,
      from: [...from].sort((a, b) => a - b),
      deleted,
      confidence,
    })),
    versions,
    leftOut,
  };
}

/** Rows with the same number that two candidates must share, and how many of them must be the same row. */
const FEWEST_SHARED = 3;
const SHARED = 0.95;

function findKin({ rows, numbers, kin }: Draft): void {
  const own = new Map<number, Map<number | bigint, number | bigint>>();
  for (const { candidate, row } of rows) {
    const known = row.rowid === null ? undefined : numbers.get(keyOf(candidate, row.rowid));
    if (row.rowid === null || known === undefined) continue;
    const all = own.get(candidate) ?? new Map();
    own.set(candidate, all.set(row.rowid, known));
  }
  for (const [one, first] of own) {
    const found: number[] = [];
    for (const [other, second] of own) {
      if (other === one) continue;
      const shared = [...first].filter(([number]) => second.has(number));
      const same = shared.filter(([number, is]) => second.get(number) === is).length;
      if (shared.length >= FEWEST_SHARED && same >= shared.length * SHARED) found.push(other);
    }
    kin.set(one, found);
  }
}

/** The new number of the row a column leads to; of one that is gone a number nobody has, so that it does not lead to another. */
function followed(target: Draft, candidate: number, value: Value | undefined): Value | undefined {
  if ((typeof value !== "number" && typeof value !== "bigint") || value === 0) return value;
  const key = keyOf(candidate, value);
  for (const each of [candidate, ...(target.kin.get(candidate) ?? [])]) {
    const known = target.numbers.get(keyOf(each, value));
    if (known !== undefined) return known;
  }
  const nobody = -1 - target.numbers.size;
  target.numbers.set(key, nobody);
  return nobody;
}

const textOf = (value: Value): string => {
  if (value instanceof Uint8Array) return `x${Buffer.from(value).toString("hex")}`;
  return value === null ? "" : `${typeof value === "string" ? "t" : "n"}${value}`;
};

/** The greatest number in each candidate's rows that looks like a time: how far they reach. */
function latest(draft: Draft): number[] {
  const reach: number[] = [];
  for (const { candidate, live, row } of draft.rows) {
    if (!live) continue;
    for (const value of row.values) if (typeof value === "number" && value > (reach[candidate] ?? 0)) reach[candidate] = value;
  }
  return reach;
}

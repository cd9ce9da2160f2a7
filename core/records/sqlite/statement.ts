import type { Value } from "./record";

/** How a declared type makes SQLite keep values ("Datatypes in SQLite", 3.1). */
export type Affinity = "integer" | "text" | "blob" | "real" | "numeric";

export interface Column {
  readonly name: string;
  readonly affinity: Affinity;
  readonly notNull: boolean;
  /** What a row has that was written before the column was added. */
  readonly fallback: Value;
  /** Whether it is computed from others, and not written by anybody; `virtual`: only when read, so that it stands in no row. */
  readonly computed: boolean;
  readonly virtual: boolean;
}

export interface TableStatement {
  readonly columns: readonly Column[];
  /** The columns of the primary key, by index. */
  readonly key: readonly number[];
  /** The column that is the row number under another name, by index; -1: none. */
  readonly alias: number;
  readonly withoutRowId: boolean;
  /** Columns that are declared unique together, by index. */
  readonly unique: readonly (readonly number[])[];
}

const MOST_TOKENS = 100_000;

interface Token {
  readonly text: string;
  /** Whether it was in quotes: a name, or a text. */
  readonly quoted: boolean;
  /** Whether it was in single quotes: a text. */
  readonly literal: boolean;
}

/** Splits a statement into words, numbers, quoted names and signs; comments are left out. */
function tokensOf(sql: string): Token[] {
  const found: Token[] = [];
  const pattern =
    /\s+|--[^\n]*|\/\*[\s\S]*?(?:\*\/|$)|("(?:[^"]|"")*"|`(?:[^`]|``)*`|\[[^\]]*\]|'(?:[^']|'')*')|([xX]'[0-9a-fA-F]*'|[\p{L}\p{N}_$.\u0080-\uffff]+|[^\s])/gu;
  for (const match of sql.matchAll(pattern)) {
    const [, quoted, plain] = match;
    if (quoted !== undefined) {
      const mark = quoted[0] as string;
      const inner = quoted.slice(1, -1);
      found.push({ text: mark === "[" ? inner : inner.replaceAll(mark + mark, mark), quoted: true, literal: mark === "'" });
    } else if (plain !== undefined) found.push({ text: plain, quoted: false, literal: false });
    if (found.length > MOST_TOKENS) break;
  }
  return found;
}

/** Splits tokens at the commas that stand in no parentheses. */
function parts(tokens: readonly Token[]): Token[][] {
  const found: Token[][] = [[]];
  let depth = 0;
  for (const token of tokens) {
    if (!token.quoted && token.text === "(") depth += 1;
    if (!token.quoted && token.text === ")") depth -= 1;
    if (depth === 0 && !token.quoted && token.text === ",") found.push([]);
    else found.at(-1)?.push(token);
  }
  return found;
}

const is = (token: Token | undefined, ...words: string[]) => !!token && !token.quoted && words.includes(token.text.toUpperCase());

/** The tokens between a parenthesis and the one that closes it. */
function inside(tokens: readonly Token[], open: number): { inner: Token[]; end: number } {
  let depth = 0;
  for (let i = open; i < tokens.length; i += 1) {
    if (is(tokens[i], "(")) depth += 1;
    else if (is(tokens[i], ")")) depth -= 1;
    if (depth === 0) return { inner: tokens.slice(open + 1, i), end: i };
  }
  return { inner: tokens.slice(open + 1), end: tokens.length };
}

/** "Datatypes in SQLite", 3.1: the rules in their order. */
export function affinityOf(type: string): Affinity {
  const upper = type.toUpperCase();
  if (upper.includes("INT")) return "integer";
  if (/CHAR|CLOB|TEXT/.test(upper)) return "text";
  if (upper === "" || upper.includes("BLOB")) return "blob";
  if (/REAL|FLOA|DOUB/.test(upper)) return "real";
  return "numeric";
}

const CONSTRAINTS = ["CONSTRAINT", "PRIMARY", "NOT", "NULL", "UNIQUE", "CHECK", "DEFAULT", "COLLATE", "REFERENCES", "GENERATED", "AS"];

/** The value of a DEFAULT that is a plain one; null for what has to be computed. */
function literalOf(tokens: readonly Token[], at: number, affinity: Affinity): Value {
  let token = tokens[at];
  let negative = false;
  if (is(token, "(")) {
    const { inner } = inside(tokens, at);
    return inner.length > 2 ? null : literalOf(inner, 0, affinity);
  }
  if (is(token, "-", "+")) {
    negative = is(token, "-");
    token = tokens[at + 1];
  }
  if (!token || is(token, "NULL")) return null;
  if (is(token, "TRUE", "FALSE")) return is(token, "TRUE") ? 1 : 0;
  if (!token.quoted && /^x'/i.test(token.text)) return Uint8Array.from(Buffer.from(token.text.slice(2, -1), "hex"));
  const number = (negative ? -1 : 1) * Number(token.text);
  const numeric = token.text.trim() !== "" && Number.isFinite(number);
  if (token.quoted) return numeric && affinity !== "text" && affinity !== "blob" ? number : token.text;
  if (!numeric) return null;
  return affinity === "text" ? `${negative ? "-" : ""}${token.text}` : number;
}

interface Draft {
  name: string;
  affinity: Affinity;
  /** The type as it stands there: only INTEGER in full makes a key the row number. */
  type: string;
  notNull: boolean;
  fallback: Value;
  computed: boolean;
  virtual: boolean;
  key: boolean;
  descending: boolean;
  unique: boolean;
}

function columnOf(tokens: readonly Token[]): Draft | null {
  const [first] = tokens;
  if (!first) return null;
  let at = 1;
  const type: string[] = [];
  while (at < tokens.length && !(tokens[at] && is(tokens[at], ...CONSTRAINTS))) {
    if (is(tokens[at], "(")) at = inside(tokens, at).end;
    else type.push(tokens[at]?.text ?? "");
    at += 1;
  }
  const name = type.join(" ");
  const draft: Draft = {
    name: first.text,
    affinity: affinityOf(name),
    type: name.toUpperCase(),
    notNull: false,
    fallback: null,
    computed: false,
    virtual: false,
    key: false,
    descending: false,
    unique: false,
  };
  for (; at < tokens.length; at += 1) {
    const [token, next] = [tokens[at], tokens[at + 1]];
    if (is(token, "PRIMARY") && is(next, "KEY")) {
      draft.key = true;
      draft.descending = is(tokens[at + 2], "DESC");
    } else if (is(token, "NOT") && is(next, "NULL")) draft.notNull = true;
    else if (is(token, "UNIQUE")) draft.unique = true;
    else if (is(token, "DEFAULT")) draft.fallback = literalOf(tokens, at + 1, draft.affinity);
    else if (is(token, "AS") && is(next, "(")) {
      draft.computed = true;
      draft.virtual = !is(tokens[inside(tokens, at + 1).end + 1], "STORED");
    }
    if (is(token, "(")) at = inside(tokens, at).end;
  }
  return draft;
}

/** Reads a CREATE TABLE statement (SQLite's "CREATE TABLE"). @returns null when it is none */
export function parseTable(sql: string): TableStatement | null {
  const tokens = tokensOf(sql);
  const open = tokens.findIndex((token) => is(token, "("));
  if (!is(tokens[0], "CREATE") || open < 0) return null;
  const { inner, end } = inside(tokens, open);
  const drafts: Draft[] = [];
  let keyNames: string[] = [];
  const together: string[][] = [];
  for (const part of parts(inner)) {
    const from = is(part[0], "CONSTRAINT") ? 2 : 0;
    if (is(part[from], "PRIMARY") && is(part[from + 1], "KEY")) {
      const list = part.findIndex((token) => is(token, "("));
      if (list >= 0) keyNames = parts(inside(part, list).inner).map((each) => each[0]?.text ?? "");
    } else if (is(part[from], "UNIQUE")) {
      const list = part.findIndex((token) => is(token, "("));
      if (list >= 0) together.push(parts(inside(part, list).inner).map((each) => each[0]?.text ?? ""));
    } else if (!is(part[from], "CHECK", "FOREIGN")) {
      const draft = columnOf(part);
      if (draft) drafts.push(draft);
    }
  }
  const options = tokens.slice(end + 1);
  const withoutRowId = options.some((token, i) => is(token, "WITHOUT") && is(options[i + 1], "ROWID"));
  const index = (name: string) => drafts.findIndex((each) => each.name.toLowerCase() === name.toLowerCase());
  const own = drafts.findIndex(({ key }) => key);
  const key = own >= 0 ? [own] : keyNames.map(index).filter((each) => each >= 0);
  const [first] = key;
  const single = key.length === 1 && first !== undefined && !withoutRowId ? drafts[first] : undefined;
  return {
    columns: drafts.map(({ name, affinity, notNull, fallback, computed, virtual }, i) => ({
      name,
      affinity,
      // The key of a table without row numbers is never empty ("WITHOUT ROWID Tables", 2).
      notNull: notNull || (withoutRowId && key.includes(i)),
      fallback,
      computed,
      virtual,
    })),
    key: [...new Set(key)],
    alias: single && single.type === "INTEGER" && !single.descending ? (first as number) : -1,
    withoutRowId,
    unique: [
      ...drafts.flatMap(({ unique }, i) => (unique ? [[i]] : [])),
      ...together.map((names) => names.map(index)).filter((each) => each.length > 0 && !each.includes(-1)),
    ],
  };
}

export interface IndexStatement {
  readonly columns: readonly string[];
  readonly isUnique: boolean;
  /** Whether it has all rows of its table. */
  readonly isWhole: boolean;
}

/** Reads a CREATE INDEX statement. @returns null when it is none, or is over what is computed */
export function parseIndex(sql: string): IndexStatement | null {
  const tokens = tokensOf(sql);
  const open = tokens.findIndex((token) => is(token, "("));
  const isUnique = is(tokens[1], "UNIQUE");
  if (!is(tokens[0], "CREATE") || !is(tokens[isUnique ? 2 : 1], "INDEX") || open < 0) return null;
  const { inner, end } = inside(tokens, open);
  const columns = parts(inner).map((part) => (part.length === 1 || is(part[1], "ASC", "DESC", "COLLATE") ? part[0]?.text : undefined));
  return columns.includes(undefined) ? null : { columns: columns as string[], isUnique, isWhole: end >= tokens.length - 1 };
}

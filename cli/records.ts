import type { Row } from "../core/records/records";
import type { Value } from "../core/records/sqlite/record";
import { openRecords } from "../io/records";
import { SourceError } from "../io/source-error";
import type { Options } from "./options";
import { flush, oneSource, put, say } from "./output";
import { EXIT } from "./usage";

/** `compass records`: the rows of a database; with --deleted also what is left of those that do not count any more. */
export function listRecords(files: readonly string[], options: Options): number {
  const path = oneSource(files);
  const { table, deleted = false } = options;
  const records = open(path, { deleted, table });
  try {
    for (const row of records.reader.rows()) put(options.json ? asJson(row) : asWords(row));
  } finally {
    records.close();
  }
  flush();
  for (const note of records.reader.notes) say(note);
  return records.reader.notes.length > 0 ? EXIT.problems : EXIT.done;
}

function open(path: string, options: { deleted: boolean; table: string | undefined }) {
  try {
    const records = openRecords(path, options);
    if (records) return records;
  } catch {
    throw new SourceError(`${path} cannot be read.`);
  }
  throw new SourceError(`${path} is no database this bench reads, or nothing of one is left in it.`);
}

/** A value in JSON: whole numbers beyond 2^53 as text, bytes in hexadecimal digits. */
function jsonOf(value: Value): string {
  if (value === null) return "null";
  if (typeof value === "string") return JSON.stringify(value);
  if (typeof value === "number") return Number.isFinite(value) ? String(value) : `"${value}"`;
  return typeof value === "bigint" ? `"${value}"` : `"${Buffer.from(value.buffer, value.byteOffset, value.length).toString("hex")}"`;
}

/** Names of columns as they stand before a value, by the list of names. */
const prefixes = new WeakMap<readonly string[], readonly string[]>();
function prefixesOf(columns: readonly string[]): readonly string[] {
  let known = prefixes.get(columns);
  if (!known) {
    known = columns.map((name) => `${JSON.stringify(name)}:`);
    prefixes.set(columns, known);
  }
  return known;
}

/** A row as one line of JSON, put together by hand: a million of them are written. */
function asJson({ table, columns, values, rowid, state, confidence, at, from }: Row): string {
  const names = prefixesOf(columns);
  let known = "";
  for (let i = 0; i < values.length; i += 1) {
    const value = values[i];
    if (value !== undefined) known += (known === "" ? "" : ",") + names[i] + jsonOf(value);
  }
  return `{"table":${table === null ? "null" : JSON.stringify(table)},"rowid":${jsonOf(rowid)},"state":"${state}","confidence":"${confidence}","values":{${known}},"at":${at},"from":"${from}"}`;
}

function asWords({ table, columns, values, state, confidence }: Row): string {
  const known = values.flatMap((value, i) =>
    value === undefined ? [] : [`${columns[i]}=${typeof value === "string" ? value : jsonOf(value)}`],
  );
  return [state === "live" ? "" : `deleted (${confidence})`, table ?? "?", ...known].join("\t");
}

import type { Row } from "../core/records/records";
import type { Value } from "../core/records/sqlite/record";
import { openRecords } from "../io/records";
import { SourceError } from "../io/source-error";
import type { Options } from "./options";
import { flush, line, oneSource, say } from "./output";
import { EXIT } from "./usage";

/** `compass records`: the rows of a database; with --deleted also what is left of those that do not count any more. */
export function listRecords(files: readonly string[], options: Options): number {
  const path = oneSource(files);
  const { table, deleted = false } = options;
  const records = open(path, { deleted, table });
  try {
    for (const row of records.reader.rows()) line(options.json, asJson(row), asWords(row));
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
function jsonValue(value: Value): string | number | null {
  if (typeof value === "bigint") return String(value);
  return value instanceof Uint8Array ? Buffer.from(value).toString("hex") : value;
}

function asJson({ table, columns, values, rowid, state, confidence, at, from }: Row): unknown {
  const known: Record<string, unknown> = Object.create(null);
  values.forEach((value, i) => {
    if (value !== undefined) known[columns[i] as string] = jsonValue(value);
  });
  return { table, rowid: typeof rowid === "bigint" ? String(rowid) : rowid, state, confidence, values: known, at, from };
}

function asWords({ table, columns, values, state, confidence }: Row): string {
  const known = values.flatMap((value, i) => (value === undefined ? [] : [`${columns[i]}=${jsonValue(value) ?? ""}`]));
  return [state === "live" ? "" : `deleted (${confidence})`, table ?? "?", ...known].join("\t");
}

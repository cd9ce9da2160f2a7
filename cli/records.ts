import { readFileSync, statSync } from "node:fs";
import { basename } from "node:path";
import { MemorySource } from "../core/bytes/byte-source";
import { decodeText } from "../core/bytes/text-encoding";
import { identify } from "../core/formats/registry";
import type { Row } from "../core/records/row";
import { type Detail, formOfSettings, readSettings, type Settings } from "../core/records/settings";
import type { Value } from "../core/records/sqlite/record";
import { openRecords } from "../io/records";
import { SourceError } from "../io/source-error";
import type { Options } from "./options";
import { flush, oneSource, put, say } from "./output";
import { EXIT } from "./usage";

/**
 * `compass records`: the rows of a database; with --deleted also what is left of those that do not count any more. Of a file of settings its
 * values, each with the names it lies under.
 */
export function listRecords(files: readonly string[], options: Options): number {
  const path = oneSource(files);
  const { table, deleted = false } = options;
  const records = open(path, { deleted, table });
  if (!records) return listSettings(path, options);
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
    return openRecords(path, options);
  } catch {
    throw new SourceError(`${path} cannot be read.`);
  }
}

/** Bytes of a file of settings at most. */
const MOST_SETTINGS = 1 << 24;
const ALL: Detail = { most: 1_000_000, longest: 1 << 24, data: true };

function listSettings(path: string, { json, table }: Options): number {
  const read = statSync(path).size <= MOST_SETTINGS ? settingsIn(path) : null;
  if (!read) throw new SourceError(`${path} is no database and no file of settings this bench reads, or nothing of one is left in it.`);
  const names: string[] = [];
  for (const { name, value, level, when } of table === undefined ? read.settings : []) {
    names.length = level;
    names.push(name);
    if (value === null) continue;
    const values = { name: names.join("/"), value, ...(when ? { moment: `${when.at.replace(" ", "T")}Z` } : {}) };
    const confidence = read.problem === null ? "whole" : "part";
    const row = { table: null, rowid: null, state: "live", confidence, values, at: null, from: "main" };
    put(json ? JSON.stringify(row) : Object.values(values).join("\t"));
  }
  flush();
  const notes = [...(read.problem ? [read.problem] : []), ...(read.more ? ["There is more in it than is given."] : [])];
  for (const note of notes) say(note);
  return notes.length > 0 ? EXIT.problems : EXIT.done;
}

function settingsIn(path: string): Settings | null {
  const bytes = readFileSync(path);
  const form = formOfSettings(identify(new MemorySource(bytes), basename(path))?.id, basename(path));
  return form && readSettings(form, bytes, decodeText(bytes), Date.now() / 1000, ALL);
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

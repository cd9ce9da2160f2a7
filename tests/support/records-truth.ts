import { readFileSync } from "node:fs";
import { join } from "node:path";
import { gunzipSync } from "node:zlib";
import { MemorySource } from "../../core/bytes/byte-source";
import { RecordReader } from "../../core/records/records";
import type { Row } from "../../core/records/row";

type Cell = string | number | null;

/** What the maker of a database knows of it (`tests/fixtures/make-records.py`). */
export interface RecordsTruth {
  readonly how: string;
  readonly columns: Readonly<Record<string, readonly string[]>>;
  readonly live: Readonly<Record<string, readonly (readonly Cell[])[]>>;
  /** Every row that was deleted, changed or never committed, and whether the body of its record still stands in one of the files. */
  readonly deleted: Readonly<Record<string, readonly { readonly row: readonly Cell[]; readonly stands: boolean }[]>>;
}

const folder = join(import.meta.dirname, "..", "fixtures", "records");

export const RECORDS = ["plain", "small-pages", "vacuumed", "large-pages", "log", "hot-journal", "first-page-zeroed"] as const;

export const recordsTruth = (name: string) =>
  JSON.parse(gunzipSync(readFileSync(join(folder, `${name}.json.gz`))).toString()) as RecordsTruth;

/** The files of a database, by name (POSIX.1-2017, pax: ustar headers of 512 bytes). */
export function recordsFiles(name: string): Map<string, Buffer> {
  const bytes = gunzipSync(readFileSync(join(folder, `${name}.tar.gz`)));
  const files = new Map<string, Buffer>();
  for (let at = 0; bytes[at]; ) {
    const size = Number.parseInt(bytes.toString("latin1", at + 124, at + 136), 8);
    files.set(bytes.toString("latin1", at, at + 100).replace(/\0.*/s, ""), bytes.subarray(at + 512, at + 512 + size));
    at += 512 + Math.ceil(size / 512) * 512;
  }
  return files;
}

export function openFixture(files: ReadonlyMap<string, Uint8Array>, deleted: boolean): RecordReader | null {
  const source = (name: string) => {
    const bytes = files.get(name);
    return bytes ? new MemorySource(bytes) : null;
  };
  const main = source("data.db");
  return main && RecordReader.open({ main, log: source("data.db-wal"), journal: source("data.db-journal") }, { deleted });
}

/** A row's values as the manifest writes them. */
export const cellsOf = ({ values }: Row): (Cell | undefined)[] =>
  values.map((value) => {
    if (value instanceof Uint8Array) return Buffer.from(value).toString("hex");
    return typeof value === "bigint" ? String(value) : value;
  });

import { existsSync } from "node:fs";
import { type ReadingOptions, RecordReader } from "../core/records/records";
import { ReadOnlyFile } from "./read-only-file";

/** A database's file with the log and journal beside it, opened for reading only. */
export interface OpenRecords {
  readonly reader: RecordReader;
  close(): void;
}

/** Opens the database in a file, with what stands beside it under the names the published format gives (FILE-wal, FILE-journal). @returns null when it is none */
export function openRecords(path: string, options: ReadingOptions): OpenRecords | null {
  const files: ReadOnlyFile[] = [];
  const open = (name: string) => {
    const file = new ReadOnlyFile(name);
    files.push(file);
    return file;
  };
  const close = () => {
    for (const file of files) file.close();
  };
  try {
    const beside = (ending: string) => (existsSync(path + ending) ? open(path + ending) : null);
    const reader = RecordReader.open({ main: open(path), log: beside("-wal"), journal: beside("-journal") }, options);
    if (!reader) close();
    return reader && { reader, close };
  } catch (error) {
    close();
    throw error;
  }
}

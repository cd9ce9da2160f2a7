import { LayoutSource } from "../../core/bytes/layout";
import { RecordReader } from "../../core/records/records";
import type { Connection } from "../database/connection";
import { besideOf, type StoredCopy } from "../items/queries";
import { openPermitted } from "../previews/content";
import { Problem } from "../problem";

/** Opens a copy as a database, with its log and journal. @returns null when it is none */
export async function openDatabase(db: Connection, copy: StoredCopy): Promise<{ reader: RecordReader; close(): void } | null> {
  const opened: { close(): void }[] = [];
  const sourceOf = (one: StoredCopy | undefined) => {
    if (!one?.layout) return null;
    const { disk, close } = openPermitted(one);
    opened.push({ close });
    return new LayoutSource(disk, one.layout);
  };
  const close = () => {
    for (const each of opened) each.close();
  };
  try {
    const beside = await besideOf(db, copy.id);
    const main = sourceOf(copy);
    const [log, journal] = ["-wal", "-journal"].map((ending) => sourceOf(beside.find(({ name }) => name === copy.name + ending)));
    const reader = main && RecordReader.open({ main, log: log ?? null, journal: journal ?? null }, { deleted: true });
    if (reader) return { reader, close };
  } catch (error) {
    if (!(error instanceof Problem)) throw error;
  }
  close();
  return null;
}

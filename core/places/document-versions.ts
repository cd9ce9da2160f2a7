import type { ByteSource } from "../bytes/byte-source";
import type { FileRecord } from "../filesystems/file-record";
import { RecordReader } from "../records/records";
import type { Row } from "../records/row";
import type { OpenedFile } from "./file-tree";

/** A store of versions: a folder at the top of a volume. Its name carries a number of the store's form. */
const STORE = /^(.*?)(\/\.DocumentRevisions-V\d+)(\/.*)$/i;
/** The store's database; what it says stands in its log too. */
const DATABASE_FOLDER = /^\/db-V\d+\//i;
const DATABASE = /^\/db-V\d+\/[^/]+\.sqlite$/i;
/** Where some systems show the volume of users' data, and volumes on other drives: their own paths begin behind it. */
const MOUNTED = /^\/(?:System\/Volumes\/Data(?=\/)|Volumes\/[^/]+(?=\/))/;

/**
 * Columns of the two tables that are needed, by their endings: from memory, no published source. A generation belongs to a storage, and a
 * storage to a document.
 */
const COLUMNS = {
  generation: { storage: "_storage_id", path: "_path", moment: "_add_time" },
  document: { storage: "_storage_id", path: "_path", moment: "_last_seen" },
} as const;

/** Rows of a store's databases that are taken at most; databases that are read at most, and bytes of all of them. */
const MOST_ROWS = 500_000;
const MOST_DATABASES = 32;
const MOST_BYTES = 512 << 20;
const LONGEST_PATH = 4096;

interface Entry {
  readonly storage: number;
  readonly path: string;
  /** UTC milliseconds; null: not known. */
  readonly moment: number | null;
  readonly live: boolean;
}

/** What the database of a store knows: generations by their paths in the store, and the document of each storage. */
class Store {
  readonly #generations = new Map<string, Entry>();
  readonly #byName = new Map<string, Entry | null>();
  readonly #documents = new Map<number, Entry>();
  readonly #storages = new Map<number, Entry[]>();
  #left = MOST_ROWS;

  /** Takes up the rows of a database, or of an older state of it: what was said first stays, unless it was of a deleted row. */
  read(files: { main: ByteSource; log: ByteSource | null }): void {
    const reader = RecordReader.open(files, { deleted: true });
    if (!reader) return;
    for (const row of reader.rows()) {
      if (this.#left <= 0) return;
      this.#left -= 1;
      const generation = toEntry(row, COLUMNS.generation);
      if (generation) this.#addGeneration(generation);
      else this.#addDocument(toEntry(row, COLUMNS.document));
    }
  }

  #addGeneration(entry: Entry): void {
    const path = entry.path.replace(STORE, "$3");
    const known = this.#generations.get(path);
    if (known && (known.live || !entry.live)) return;
    this.#generations.set(path, entry);
    const name = nameOf(path);
    const namesake = this.#byName.get(name);
    this.#byName.set(name, namesake === undefined || namesake === known ? entry : null);
    const siblings = (this.#storages.get(entry.storage) ?? []).filter((each) => each !== known);
    this.#storages.set(entry.storage, [...siblings, entry]);
  }

  #addDocument(entry: Entry | null): void {
    if (!entry) return;
    const known = this.#documents.get(entry.storage);
    // A document that was moved is where it was seen last.
    const better = !known || (entry.live !== known.live ? entry.live : (entry.moment ?? 0) > (known.moment ?? 0));
    if (better) this.#documents.set(entry.storage, entry);
  }

  /** The document of which a file in the store is a version, or a part of one; null: the database does not say. @param path in the store */
  documentOf(path: string): KnownVersion | null {
    for (let end = path.length; end > 0; end = path.lastIndexOf("/", end - 1)) {
      const generation = this.#generations.get(path.slice(0, end)) ?? (end === path.length ? this.#byName.get(nameOf(path)) : null);
      if (!generation) continue;
      const document = this.#documents.get(generation.storage);
      const all = [...(this.#storages.get(generation.storage) ?? [])].sort((a, b) => (a.moment ?? 0) - (b.moment ?? 0));
      const when = generation.moment === null ? "" : `, on ${new Date(generation.moment).toISOString().slice(0, 16).replace("T", " ")} UTC`;
      const which = `version ${all.indexOf(generation) + 1} of ${all.length} that the store’s database names of one document, kept${when}`;
      if (!document) return { path: null, kept: generation.moment, note: `It is ${which}. Of which document is not known any more.` };
      const gone = generation.live && document.live ? "" : " Its entry there was deleted.";
      return { path: document.path + path.slice(end), kept: generation.moment, note: `It is ${which}.${gone}` };
    }
    return null;
  }
}

/** Finds the values of a row by the endings of its columns; null: it is of another table, or says nothing that can be used. */
function toEntry(row: Row, wanted: (typeof COLUMNS)[keyof typeof COLUMNS]): Entry | null {
  const valueIn = (ending: string) => {
    const index = row.columns.findIndex((column) => column.toLowerCase().endsWith(ending));
    return index < 0 ? undefined : row.values[index];
  };
  const [storage, path, seconds] = [valueIn(wanted.storage), valueIn(wanted.path), valueIn(wanted.moment)];
  if (
    row.confidence === "guess" ||
    typeof storage !== "number" ||
    typeof path !== "string" ||
    seconds === undefined ||
    row.uncommitted ||
    !isPath(path)
  )
    return null;
  const moment = typeof seconds === "number" && seconds > 0 && seconds < 1e10 ? Math.round(seconds * 1000) : null;
  return { storage, path: path.normalize("NFC"), moment, live: row.state === "live" };
}

/** Whether a text is the full path of something below a root: nothing in it leads back out. */
const isPath = (text: string): boolean =>
  text.length <= LONGEST_PATH && /^\/[^\0]*[^\0/]$/.test(text) && !text.split("/").some((part) => part === ".." || part === ".");

const nameOf = (path: string) => path.slice(path.lastIndexOf("/") + 1);

/** What a record in a store is, by its database. */
export interface KnownVersion {
  /** Where its document stood; null: that is not known. */
  readonly path: string | null;
  /** When the version was kept: UTC milliseconds; null: not known. */
  readonly kept: number | null;
  readonly note: string;
}

/** Whether a record is a part of a store's database, and no version. */
export const isVersionDatabase = ({ path }: FileRecord): boolean => DATABASE_FOLDER.test(STORE.exec(path)?.[3] ?? "");

/**
 * Finds of which documents the files in the system's stores of versions are versions, as the stores' own databases say.
 * @param records all there are in stores, databases among them
 */
export function knownVersions(
  records: readonly FileRecord[],
  open: (record: FileRecord) => OpenedFile | null,
): ReadonlyMap<FileRecord, KnownVersion> {
  const stores = new Map<string, Store>();
  const placed = records.flatMap((record) => {
    const [, above = "", folder = "", path = ""] = STORE.exec(record.path.normalize("NFC")) ?? [];
    return folder && record.type === "file" ? [{ record, above, root: above + folder, path }] : [];
  });
  // What counts now says more than what was deleted.
  const databases = placed.filter(({ path }) => DATABASE.test(path)).sort((a, b) => rankOf(a.record) - rankOf(b.record));
  let left = MOST_BYTES;
  for (const { record, root, path } of databases.slice(0, MOST_DATABASES)) {
    const log = placed.find((each) => each.root === root && each.path === `${path}-wal` && each.record.state === record.state);
    const bytes = record.size + (log?.record.size ?? 0);
    if (bytes > left) continue;
    left -= bytes;
    const store = stores.get(root) ?? new Store();
    stores.set(root, store);
    const [main, beside] = [open(record), log ? open(log.record) : null];
    try {
      if (main) store.read({ main: main.content, log: beside?.content ?? null });
    } finally {
      main?.close();
      beside?.close();
    }
  }
  const known = new Map<FileRecord, KnownVersion>();
  for (const { record, above, root, path } of placed) {
    const version = isVersionDatabase(record) ? null : stores.get(root)?.documentOf(path);
    if (version) known.set(record, { ...version, path: version.path && above + version.path.replace(MOUNTED, "") });
  }
  return known;
}

const rankOf = ({ state }: FileRecord) => (state === "live" ? 0 : 1);

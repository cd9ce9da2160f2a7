import { sha1 } from "@noble/hashes/legacy";
import type { ByteSource } from "../bytes/byte-source";
import { readDamagedPropertyList } from "../bytes/property-list";
import type { FileRecord } from "../filesystems/file-record";
import type { FileTree, OpenedFile } from "../places/file-tree";
import { RecordReader } from "../records/records";
import type { Row } from "../records/row";
import type { Value } from "../records/sqlite/record";

/** What the hash of a file's name looks like: in a phone's backup the file stands under it. */
export const HASHED = /^[0-9a-f]{40}$/;
/** Bytes of a list that are read. */
const MOST_LIST = 1 << 30;
/** Bytes of what a list keeps of one file. */
const MOST_METADATA = 1 << 20;
/** Entries of a list that are followed. */
const MOST_ENTRIES = 5_000_000;
/** Entries of which one must stand under the hash of its name. */
const SAMPLED = 10_000;
/** What an entry is (common practice, no published source). */
export const FLAGS = { file: 1, folder: 2, link: 4 } as const;

/** What the list says of one file of the phone. */
export interface Entry {
  readonly id: string;
  readonly path: string;
  readonly flags: number;
  readonly size: number | null;
  readonly modified: number | null;
  readonly created: number | null;
  /** Whether it stands under the hash of its name; else the name is that of a file only where one stands under its hash. */
  readonly certain: boolean;
}

/** What of a list was damaged when it was read last. */
interface Damage {
  /** What the database says of itself. */
  notes: readonly string[];
  /** Entries that do not stand under the hash of their name. */
  untrue: number;
}

/** Columns of the table that lists the files, in their order in it (common practice, no published source). */
const COLUMNS = ["fileID", "domain", "relativePath", "flags", "file"] as const;
type Fields = readonly (Value | undefined)[];

/**
 * The database of a phone's backup that says which file of the phone stands under which hash. The hash is SHA-1 of "domain-path" (common practice, no
 * published source): an entry that does not agree with it is damaged, and is not believed; one that does names a file wherever it was found.
 */
export class PhoneList {
  #isHashed: boolean | null = null;
  #damage: Damage | null = null;

  private constructor(
    private readonly tree: FileTree,
    private readonly main: FileRecord,
    private readonly log: FileRecord | null,
    private readonly journal: FileRecord | null,
  ) {}

  /** Opens a list. @param beside the files that stand beside it @returns null when it is none, or nothing of it can be read */
  static open(tree: FileTree, main: FileRecord, beside: readonly FileRecord[]): PhoneList | null {
    const named = (suffix: string) => beside.find(({ name }) => name === `${main.name}${suffix}`) ?? null;
    const list = new PhoneList(tree, main, named("-wal"), named("-journal"));
    return list.#fields(false).next().done ? null : list;
  }

  /** The file it is. */
  get record(): FileRecord {
    return this.main;
  }

  /** Gives what it lists. */
  *entries(): Generator<Entry, void, void> {
    let count = 0;
    const damage: Damage = { notes: [], untrue: 0 };
    for (const fields of this.#fields(false, damage)) {
      const entry = this.#entryOf(fields);
      if (!entry?.certain) damage.untrue += 1;
      if (entry && count++ >= MOST_ENTRIES) {
        damage.notes = [`only its first ${MOST_ENTRIES} entries are read.`];
        break;
      }
      if (entry) yield entry;
    }
    this.#damage = damage;
  }

  /** Gives the names of files that it does not list any more, from what is left of deleted entries, and of those it does. */
  *formerNames(): Generator<Entry, void, void> {
    if (!this.#agrees) return;
    for (const fields of this.#fields(true)) {
      const entry = this.#entryOf(fields);
      if (entry) yield entry;
    }
  }

  /** What is damaged in it, in words; empty: nothing is known to be. */
  notes(): string[] {
    if (!this.#damage) for (const _ of this.entries());
    const { notes, untrue } = this.#damage ?? { notes: [], untrue: 0 };
    if (notes.length === 0 && untrue === 0) return [];
    return [
      "Its list is damaged or not read to its end: it may have had more files than are named here.",
      ...notes.map((note) => `The list: ${note}`),
      ...(untrue > 0
        ? [
            `The list: ${untrue} of its entries ${untrue === 1 ? "is" : "are"} damaged; of those a name counts only where it gives the hash of a file that is there.`,
          ]
        : []),
    ];
  }

  /**
   * Whether entries stand under the hashes of their names: one that does is no chance, however many are damaged. Where none does, the backup names its
   * files in another way.
   */
  get #agrees(): boolean {
    if (this.#isHashed !== null) return this.#isHashed;
    let count = 0;
    let isHashed = false;
    for (const [id, domain, path] of this.#fields(false)) {
      isHashed = typeof domain === "string" && typeof path === "string" && hashOf(domain, path) === id;
      if (isHashed || ++count >= SAMPLED) break;
    }
    this.#isHashed = isHashed;
    return isHashed;
  }

  /** @returns null when it names nothing */
  #entryOf([id, domain, relative, flags, file]: Fields): Entry | null {
    if (typeof domain !== "string") return null;
    const path = typeof relative === "string" ? relative : "";
    // What is the hash of the name is that of the file, also where the entry's own is damaged or gone.
    const hash = this.#agrees ? hashOf(domain, path) : id;
    if (typeof hash !== "string" || !HASHED.test(hash)) return null;
    return {
      id: hash,
      path: safePath(path === "" ? `/${domain}` : `/${domain}/${path}`),
      flags: typeof flags === "number" ? flags : path === "" ? FLAGS.folder : FLAGS.file,
      ...metadataOf(file),
      certain: typeof id === "string" && isLike(hash, id),
    };
  }

  /** Rows of the table that lists files, as the fields of `COLUMNS`. @param deleted with what is left of rows that were deleted */
  *#fields(deleted: boolean, damage?: Damage): Generator<Fields, void, void> {
    if (this.main.size > MOST_LIST) return;
    const opened: OpenedFile[] = [];
    const open = (record: FileRecord | null): ByteSource | null => {
      const file = record && record.size > 0 && record.size <= MOST_LIST ? this.tree.open(record) : null;
      if (file) opened.push(file);
      return file?.content ?? null;
    };
    try {
      const main = open(this.main);
      const files = main && { main, log: open(this.log), journal: open(this.journal) };
      const reader = files && RecordReader.open(files, { deleted });
      if (!reader) return;
      const table = reader.tableWith(COLUMNS.slice(0, 4));
      for (const row of reader.rows()) {
        const fields = fieldsOf(row, table);
        if (fields) yield fields;
      }
      if (damage) damage.notes = [...reader.notes];
    } finally {
      for (const file of opened) file.close();
    }
  }
}

/** SHA-1 of a file's name on the phone, hexadecimal. */
const hashOf = (domain: string, path: string): string => Buffer.from(sha1(Buffer.from(`${domain}-${path}`))).toString("hex");

/** Digits that are the same at least where a hash is damaged: two of different names have about three in common. */
const LEAST_ALIKE = 20;

function isLike(hash: string, damaged: string): boolean {
  let alike = 0;
  for (let i = 0; i < hash.length; i += 1) if (hash[i] === damaged[i]) alike += 1;
  return alike >= LEAST_ALIKE;
}

/**
 * The fields of an entry in a row; null: it is none. Where the names of the columns are damaged or gone they are known by their places, if the row
 * stands under the hash of its name.
 */
function fieldsOf({ table, columns, values }: Row, listed: string | null): Fields | null {
  if (listed !== null && table === listed) return COLUMNS.map((name) => values[columns.indexOf(name)]);
  if (listed !== null && table !== null) return null;
  const [id, domain, path] = values;
  return typeof domain === "string" && typeof path === "string" && hashOf(domain, path) === id ? values : null;
}

/** A path without parts that lead elsewhere. */
const safePath = (path: string) =>
  path
    .split("/")
    .map((part) => (part === "." || part === ".." ? "_" : part.replaceAll("\0", "_")))
    .join("/");

/** What the list keeps of a file: a property list of its own, an archive of objects or a simple one. Times are in seconds since 1970. */
function metadataOf(value: Value | undefined): Pick<Entry, "size" | "modified" | "created"> {
  const none = { size: null, modified: null, created: null };
  if (!(value instanceof Uint8Array) || value.length > MOST_METADATA) return none;
  const read = readDamagedPropertyList(value);
  // What is damaged may say anything.
  if (!read || read.problem !== null || typeof read.value !== "object" || read.value === null) return none;
  const list = read.value as Record<string, unknown>;
  const objects = Array.isArray(list.$objects) ? (list.$objects as unknown[]) : [list];
  const found = objects.find((each): each is Record<string, unknown> => typeof each === "object" && each !== null && "Size" in each);
  const number = (name: string) => (typeof found?.[name] === "number" && Number.isFinite(found[name]) ? (found[name] as number) : null);
  const moment = (name: string) => {
    const seconds = number(name);
    return seconds === null || seconds === 0 ? null : seconds * 1000;
  };
  return { size: number("Size"), modified: moment("LastModified"), created: moment("Birth") };
}

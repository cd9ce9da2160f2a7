import { readBytes } from "../bytes/byte-source";
import { layoutOf } from "../bytes/layout";
import { readPropertyList } from "../bytes/property-list";
import { absent, type Content, type FileRecord, likeliest, NO_CONTENT, placed } from "../filesystems/file-record";
import type { FileTree } from "../places/file-tree";
import { RecordReader } from "../records/records";
import type { Value } from "../records/sqlite/record";
import {
  asStanding,
  type BackupSet,
  below,
  byTime,
  movedTo,
  parentOf,
  recordsBelow,
  type SetFinder,
  type SetState,
  type StandingFile,
  unvouched,
} from "./backup-set";

/** A file under the name of its hash, in a folder named by the hash's first two digits. */
const HASHED = /^[0-9a-f]{40}$/;
const SHELF = /^[0-9a-f]{2}$/;
/** Bytes of a list that are read. */
const MOST_LIST = 1 << 30;
const MOST_PLIST = 1 << 20;
/** Entries of a list that are followed. */
const MOST_ENTRIES = 5_000_000;
/** What an entry is (common practice, no published source). */
const FLAGS = { file: 1, folder: 2, link: 4 } as const;

/** What the list says of one file of the phone. */
interface Entry {
  readonly id: string;
  readonly path: string;
  readonly flags: number;
  readonly size: number | null;
  readonly modified: number | null;
  readonly created: number | null;
}

interface PhoneState extends SetState {
  /** The backup's folder in the tree. */
  readonly folder: string;
  readonly encrypted: boolean;
  /** The file that lists what is in it; null: there is none. */
  readonly list: FileRecord | null;
}

/** Finds backups of phones a computer keeps: files under the hashes of their names, with a list of them and what the backup says of itself beside. */
export class PhoneBackupsFinder implements SetFinder {
  readonly #folders = new Set<string>();
  /** Databases and property lists, by the folder they stand in. */
  readonly #beside = new Map<string, FileRecord[]>();

  note(record: FileRecord): void {
    if (record.type !== "file" || record.state !== "live") return;
    const parent = parentOf(record.path);
    const shelf = parent.slice(parent.lastIndexOf("/") + 1);
    if (HASHED.test(record.name) && SHELF.test(shelf) && record.name.startsWith(shelf)) this.#folders.add(parentOf(parent));
    else if (/\.(db|plist)$/i.test(record.name)) {
      const known = this.#beside.get(parent);
      if (known) known.push(record);
      else this.#beside.set(parent, [record]);
    }
  }

  found(tree: FileTree): BackupSet[] {
    const sets = new Map<string, { root: string; machine: string | null; states: PhoneState[] }>();
    const names = new Names(tree);
    // A list may be all that is left of a backup.
    for (const [folder, records] of this.#beside)
      if (!this.#folders.has(folder) && records.some((record) => /\.db$/i.test(record.name) && isList(tree, record)))
        this.#folders.add(folder);
    for (const folder of this.#folders) {
      const beside = this.#beside.get(folder) ?? [];
      // Hashed names alone are kept by many programs: what says of itself that it is a backup is one.
      const said = beside.filter(({ name }) => /\.plist$/i.test(name)).map((record) => readPlist(tree, record));
      const lists = beside.filter(({ name }) => /\.db$/i.test(name));
      const list = lists.find((record) => isList(tree, record)) ?? lists[0] ?? null;
      const facts = Object.assign({}, ...said) as Record<string, unknown>;
      if (!list && said.length === 0) continue;
      const readable = list !== null && isList(tree, list);
      if (!("IsEncrypted" in facts) && !("Device Name" in facts) && !readable) continue;
      if (readable) names.lists.push(list);
      const machine = textOf(facts["Device Name"]) ?? textOf(facts["Display Name"]);
      const root = parentOf(folder);
      const key = JSON.stringify([root, machine]);
      const set = sets.get(key) ?? { root, machine, states: [] };
      set.states.push(stateOf(folder, root, facts, list, tree));
      sets.set(key, set);
    }
    return [...sets.values()].map(({ root, machine, states }) => new PhoneBackups(root, machine, states.sort(byTime), names));
  }
}

const ENCRYPTED = "This backup is encrypted: without its password nothing in it can be read.";

const textOf = (value: unknown) => (typeof value === "string" && value !== "" ? value : null);

function stateOf(folder: string, root: string, facts: Record<string, unknown>, list: FileRecord | null, tree: FileTree): PhoneState {
  const date = [facts["Last Backup Date"], facts.Date].find((each): each is Date => each instanceof Date && !Number.isNaN(each.getTime()));
  const encrypted = facts.IsEncrypted === true || facts.IsEncrypted === 1;
  const readable = list !== null && isList(tree, list);
  const notes: string[] = [];
  if (encrypted) notes.push(ENCRYPTED);
  if (!list) notes.push("Its list is gone: files have the names other backups' lists give, else the hashes of their names.");
  else if (!readable)
    notes.push("Its list cannot be read: files have the names other backups' lists give, else the hashes of their names.");
  return {
    key: below(folder, root)?.slice(1) ?? folder,
    label: date ? date.toISOString().slice(0, 19).replace("T", " ") : folder.slice(folder.lastIndexOf("/") + 1),
    asOf: date ? date.getTime() : null,
    unfinished: textOf(facts.SnapshotState) !== null && facts.SnapshotState !== "finished",
    ...(encrypted && !readable ? { closed: ENCRYPTED } : {}),
    notes,
    folder,
    encrypted,
    list: readable ? list : null,
  };
}

function readPlist(tree: FileTree, record: FileRecord): Record<string, unknown> {
  if (record.size > MOST_PLIST) return {};
  const opened = tree.open(record);
  if (!opened) return {};
  try {
    const list = readPropertyList(readBytes(opened.content, 0, Math.min(record.size, opened.content.size)));
    return typeof list === "object" && list !== null && !Array.isArray(list) ? (list as Record<string, unknown>) : {};
  } finally {
    opened.close();
  }
}

const ENTRY = ["fileID", "domain", "relativePath", "flags"] as const;

/** Reads the list of a backup: the rows of the table that has the columns of one. */
function* entriesOf(tree: FileTree, record: FileRecord): Generator<Entry, void, void> {
  if (record.size > MOST_LIST) return;
  const opened = tree.open(record);
  if (!opened) return;
  try {
    const reader = RecordReader.open({ main: opened.content }, { deleted: false });
    const table = reader?.tableWith(ENTRY);
    if (!reader || !table) return;
    let count = 0;
    for (const { columns, values } of reader.rowsOf(table)) {
      const [id, domain, relative, flags] = ENTRY.map((name) => values[columns.indexOf(name)]);
      if (typeof id !== "string" || !HASHED.test(id) || typeof domain !== "string") continue;
      if (count++ > MOST_ENTRIES) return;
      const path = typeof relative === "string" && relative !== "" ? `/${domain}/${relative}` : `/${domain}`;
      yield {
        id,
        path: safePath(path),
        flags: typeof flags === "number" ? flags : FLAGS.file,
        ...metadataOf(values[columns.indexOf("file")]),
      };
    }
  } finally {
    opened.close();
  }
}

const isList = (tree: FileTree, record: FileRecord) => entriesOf(tree, record).next().done === false;

/** Names by hash, from all lists in a tree: a hash is that of a name, so that one backup's list names what stands in another. */
class Names {
  readonly lists: FileRecord[] = [];
  #known: Map<string, string> | null = null;

  constructor(private readonly tree: FileTree) {}

  of(id: string): string | null {
    if (!this.#known) {
      this.#known = new Map();
      for (const list of this.lists) for (const entry of entriesOf(this.tree, list)) this.#known.set(entry.id, entry.path);
    }
    return this.#known.get(id) ?? null;
  }
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
  if (!(value instanceof Uint8Array) || value.length > MOST_PLIST) return none;
  const list = readPropertyList(value) as Record<string, unknown> | null;
  if (typeof list !== "object" || list === null) return none;
  const objects = Array.isArray(list.$objects) ? (list.$objects as unknown[]) : [list];
  const found = objects.find((each): each is Record<string, unknown> => typeof each === "object" && each !== null && "Size" in each);
  const number = (name: string) => (typeof found?.[name] === "number" && Number.isFinite(found[name]) ? (found[name] as number) : null);
  const moment = (name: string) => {
    const seconds = number(name);
    return seconds === null || seconds === 0 ? null : seconds * 1000;
  };
  return { size: number("Size"), modified: moment("LastModified"), created: moment("Birth") };
}

class PhoneBackups implements BackupSet {
  readonly kind = "phone-backups";
  readonly user = null;
  readonly notes: readonly string[];

  constructor(
    readonly root: string,
    readonly machine: string | null,
    readonly states: readonly PhoneState[],
    private readonly names: Names,
  ) {
    const encrypted = states.filter((state) => state.encrypted).length;
    this.notes = encrypted > 0 ? [`${encrypted} of its ${states.length} backups ${encrypted === 1 ? "is" : "are"} encrypted.`] : [];
  }

  *standingIn(state: SetState, tree: FileTree): Generator<StandingFile, void, void> {
    for (const record of this.#recordsOf(state, tree)) yield asStanding(record);
  }

  *#recordsOf(state: SetState, tree: FileTree): Generator<FileRecord, void, void> {
    const backup = this.states.find(({ key }) => key === state.key);
    if (!backup) return;
    const stored = new Map<string, FileRecord>();
    for (const record of recordsBelow(tree, backup.folder)) {
      if (record.type !== "file" || record.state !== "live" || !HASHED.test(record.name)) continue;
      if (below(record.path, backup.folder) === `/${record.name.slice(0, 2)}/${record.name}`) stored.set(record.name, record);
    }
    const listed = new Set<string>();
    if (backup.list)
      for (const entry of entriesOf(tree, backup.list)) {
        listed.add(entry.id);
        yield recordOf(entry, stored.get(entry.id) ?? null, backup);
      }
    for (const [id, record] of stored) {
      if (listed.has(id)) continue;
      const known = this.names.of(id);
      const from = known ? "its name is from the list of another backup" : "its name is not known";
      const note = backup.list ? `The backup's list does not name it; ${from}.` : `The backup's list is gone or cannot be read; ${from}.`;
      const moved = unvouched(movedTo(record, known ?? `/without a name/${id}`, [note]));
      yield backup.encrypted ? { ...moved, content: absent("encrypted", "The backup is encrypted.") } : moved;
    }
  }
}

/** A file of which the end is not there. */
function withLostEnd(record: FileRecord, size: number): FileRecord {
  const note = `The backup's list says that it has ${size} bytes; ${record.size} are there.`;
  const place = likeliest(record);
  const missing = size - record.size;
  if (!place) return { ...record, notes: [...record.notes, note] };
  const layout = layoutOf([...place.layout.segments, { kind: "lost", length: missing }], size);
  const content = placed(layout, { ...place.evidence, lost: place.evidence.lost + missing });
  return { ...record, size, content, notes: [...record.notes, note] };
}

/** A file of the phone as its list names it. @param stored the file that holds it; null: it is not there */
function recordOf(entry: Entry, stored: FileRecord | null, { encrypted, list }: PhoneState): FileRecord {
  const { path, flags, size, modified, created } = entry;
  const name = path.slice(path.lastIndexOf("/") + 1);
  const base: FileRecord = {
    reference: `entry ${entry.id}`,
    state: "live",
    type: flags === FLAGS.folder ? "folder" : "file",
    path,
    name,
    rawName: new TextEncoder().encode(name),
    size: 0,
    created,
    modified,
    changed: null,
    content: NO_CONTENT,
    ...(list?.file === undefined ? {} : { file: null }),
    system: false,
    streams: [],
    links: 1,
    notes: [],
  };
  if (base.type === "folder") return base;
  if (flags === FLAGS.link) return { ...base, content: absent("not-followed", "It is a link on the phone.") };
  if (!stored) {
    const content: Content =
      size === 0 ? NO_CONTENT : absent("named-only", "The backup lists it, and the file that should hold it is not there.");
    return { ...base, size: size ?? 0, content };
  }
  const moved = unvouched({
    ...stored,
    path,
    name,
    rawName: base.rawName,
    created: created ?? stored.created,
    modified: modified ?? stored.modified,
  });
  if (encrypted) return { ...moved, content: absent("encrypted", "The backup is encrypted.") };
  if (size !== null && size > stored.size) return withLostEnd(moved, size);
  if (size !== null && size !== stored.size)
    return { ...moved, notes: [...moved.notes, `The backup's list says that it has ${size} bytes; ${stored.size} are there.`] };
  return moved;
}

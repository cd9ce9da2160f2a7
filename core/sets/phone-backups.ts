import { readBytes } from "../bytes/byte-source";
import { layoutOf } from "../bytes/layout";
import { readPropertyList } from "../bytes/property-list";
import { absent, type Content, type FileRecord, likeliest, NO_CONTENT, placed } from "../filesystems/file-record";
import type { FileTree } from "../places/file-tree";
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
import { type Entry, FLAGS, HASHED, PhoneList } from "./phone-list";

/** A file stands under the name of its hash, in a folder named by the hash's first two digits. */
const SHELF = /^[0-9a-f]{2}$/;
const MOST_PLIST = 1 << 20;

interface PhoneState extends SetState {
  /** The backup's folder in the tree. */
  readonly folder: string;
  readonly encrypted: boolean;
  /** What lists what is in it; null: there is nothing, or it cannot be read. */
  readonly list: PhoneList | null;
}

/** Finds backups of phones a computer keeps: files under the hashes of their names, with a list of them and what the backup says of itself beside. */
export class PhoneBackupsFinder implements SetFinder {
  readonly #folders = new Set<string>();
  /** Databases with their logs and journals, and property lists, by the folder they stand in. */
  readonly #beside = new Map<string, FileRecord[]>();

  note(record: FileRecord): void {
    if (record.type !== "file" || record.state !== "live") return;
    const parent = parentOf(record.path);
    const shelf = parent.slice(parent.lastIndexOf("/") + 1);
    if (HASHED.test(record.name) && SHELF.test(shelf) && record.name.startsWith(shelf)) this.#folders.add(parentOf(parent));
    else if (/\.(db(-wal|-journal)?|plist)$/i.test(record.name)) {
      const known = this.#beside.get(parent);
      if (known) known.push(record);
      else this.#beside.set(parent, [record]);
    }
  }

  found(tree: FileTree): BackupSet[] {
    const sets = new Map<string, { root: string; machine: string | null; states: PhoneState[] }>();
    const names = new Names();
    for (const [folder, beside] of this.#beside) {
      // A list may be all that is left of a backup.
      if (!this.#folders.has(folder) && !beside.some(({ name }) => LIST.test(name))) continue;
      const databases = beside.filter(({ name }) => LIST.test(name));
      const list = first(databases, (record) => PhoneList.open(tree, record, beside));
      if (!list && !this.#folders.has(folder)) continue;
      // Hashed names alone are kept by many programs: what says of itself that it is a backup is one.
      const said = beside.filter(({ name }) => /\.plist$/i.test(name)).map((record) => readPlist(tree, record));
      const facts = Object.assign({}, ...said) as Record<string, unknown>;
      if (!("IsEncrypted" in facts) && !("Device Name" in facts) && !list) continue;
      if (list) names.lists.push(list);
      const machine = textOf(facts["Device Name"]) ?? textOf(facts["Display Name"]);
      const root = parentOf(folder);
      const key = JSON.stringify([root, machine]);
      const set = sets.get(key) ?? { root, machine, states: [] };
      set.states.push(stateOf(folder, root, facts, list, databases.length > 0));
      sets.set(key, set);
    }
    return [...sets.values()].map(({ root, machine, states }) => new PhoneBackups(root, machine, states.sort(byTime), names));
  }
}

const LIST = /\.db$/i;

function first<T, R>(all: readonly T[], use: (one: T) => R | null): R | null {
  for (const one of all) {
    const found = use(one);
    if (found !== null) return found;
  }
  return null;
}

const ENCRYPTED = "This backup is encrypted: without its password nothing in it can be read.";

const textOf = (value: unknown) => (typeof value === "string" && value !== "" ? value : null);

/** @param hasList whether a database stands there that could be its list */
function stateOf(folder: string, root: string, facts: Record<string, unknown>, list: PhoneList | null, hasList: boolean): PhoneState {
  const date = [facts["Last Backup Date"], facts.Date].find((each): each is Date => each instanceof Date && !Number.isNaN(each.getTime()));
  const encrypted = facts.IsEncrypted === true || facts.IsEncrypted === 1;
  const notes: string[] = [];
  if (encrypted) notes.push(ENCRYPTED);
  if (!list)
    notes.push(
      `Its list ${hasList ? "cannot be read" : "is gone"}: files have the names other backups' lists give, else the hashes of their names.`,
    );
  return {
    key: below(folder, root)?.slice(1) ?? folder,
    label: date ? date.toISOString().slice(0, 19).replace("T", " ") : folder.slice(folder.lastIndexOf("/") + 1),
    asOf: date ? date.getTime() : null,
    unfinished: textOf(facts.SnapshotState) !== null && facts.SnapshotState !== "finished",
    ...(encrypted && !list ? { closed: ENCRYPTED } : {}),
    notes,
    folder,
    encrypted,
    list,
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

/** Names by hash, from all lists in a tree: a hash is that of a name, so that one backup's list names what stands in another. */
class Names {
  readonly lists: PhoneList[] = [];
  #listed: Map<string, Named> | null = null;
  #former: Map<string, Named> | null = null;

  /** @returns the name, and in words where it is from; null: no list has it */
  of(id: string, stored: FileRecord): { readonly path: string; readonly from: string } | null {
    this.#listed ??= namesIn(this.lists, (list) => list.entries());
    const listed = this.#listed.get(id);
    if (listed) return { path: listed.path, from: "its name is from the list of another backup" };
    this.#former ??= namesIn(this.lists, (list) => list.formerNames());
    const former = this.#former.get(id);
    if (!former) return null;
    const differs =
      former.size !== null && former.size !== stored.size ? `, which says ${former.size} bytes; ${stored.size} are there` : "";
    return { path: former.path, from: `its name is from an entry that does not count any more${differs}` };
  }
}

type Named = Pick<Entry, "path" | "size">;

function namesIn(lists: readonly PhoneList[], read: (list: PhoneList) => Iterable<Entry>): Map<string, Named> {
  const names = new Map<string, Named>();
  for (const list of lists) for (const { id, path, size } of read(list)) names.set(id, { path, size });
  return names;
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

  notesOf({ key }: SetState): string[] {
    return this.states.find((state) => state.key === key)?.list?.notes() ?? [];
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
    for (const entry of backup.list?.entries() ?? []) {
      const record = stored.get(entry.id) ?? null;
      if (listed.has(entry.id) || !(entry.certain || record)) continue;
      listed.add(entry.id);
      yield recordOf(entry, record, backup);
    }
    for (const [id, record] of stored) {
      if (listed.has(id)) continue;
      const known = this.names.of(id, record);
      const from = known?.from ?? "its name is not known";
      const note = backup.list ? `The backup's list does not name it; ${from}.` : `The backup's list is gone or cannot be read; ${from}.`;
      const moved = unvouched(movedTo(record, known?.path ?? `/without a name/${id}`, [note]));
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
    ...(list?.record.file === undefined ? {} : { file: null }),
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

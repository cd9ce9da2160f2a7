import { createHash } from "node:crypto";
import { LayoutSource } from "../core/bytes/layout";
import type { Copy } from "../core/copies/copy";
import { type FileRecord, FileSystemError } from "../core/filesystems/file-record";
import { copyInTree } from "../core/places/copy-in-tree";
import type { FileTree } from "../core/places/file-tree";
import { recordsIn, recordsOf } from "../core/sets/backup-set";
import { rememberedTree } from "../core/sets/remembered-tree";
import type { Searchable } from "../io/open-searchable";
import { openStore } from "../io/open-store";
import { listStores, type Store } from "../io/stores";
import { isoText } from "./iso-text";
import type { Options } from "./options";
import { flush, line, say } from "./output";
import { EXIT, Usage } from "./usage";

/** One content of the path: where it stands, and from when to when. */
interface Version {
  readonly sha256: string | null;
  readonly size: number;
  readonly modified: number | null;
  readonly condition: Copy["condition"];
  readonly path: string;
  readonly stores: string[];
  /** The moments its states speak for; null: now. */
  readonly moments: (number | null)[];
}

/** `compass versions`: a line for each content that stood under a path, oldest first, with all stores that have it. */
export function versions(positionals: readonly string[], options: Options): number {
  const [source, path, extra] = positionals;
  if (source === undefined || path === undefined || extra !== undefined) throw new Usage("Name a source and one path in it.");
  const found = new Map<string, Version>();
  let problems = false;
  for (const group of groupsOf(listStores({ sourcePath: source, beside: options.beside }, true))) {
    try {
      for (const { store, tree, record } of filesUnder(group, ownPath(path))) take(found, store, copyInTree(tree, record), tree, record);
    } catch (error) {
      if (!(error instanceof FileSystemError)) throw error;
      say(`${group[0]?.id}: ${error.message}`);
      problems = true;
    }
  }
  const sorted = [...found.values()].sort((a, b) => firstOf(a) - firstOf(b) || (a.modified ?? 0) - (b.modified ?? 0));
  for (const version of sorted) line(options.json, asJson(version), asWords(version));
  flush();
  if (sorted.length === 0) say(`Nothing in ${source} has, or had, a file “${path}”.`);
  return problems || sorted.length === 0 ? EXIT.problems : EXIT.done;
}

/** Stores that are opened together: a volume or folder, its own present state first, and the states of the sets that lie in it. */
function groupsOf(stores: Iterable<Store>): Store[][] {
  const groups = new Map<string, Store[]>();
  for (const store of stores) {
    if (store.closed !== null || store.kind === "image") continue;
    const key = store.state ? (store.parent ?? store.id) : store.id;
    groups.set(key, [...(groups.get(key) ?? []), store]);
  }
  return [...groups.values()];
}

interface FileIn {
  readonly store: Store;
  readonly tree: FileTree;
  readonly record: FileRecord;
}

function* filesUnder(group: readonly Store[], wanted: string): Generator<FileIn, void, void> {
  const [first] = group;
  if (!first) return;
  const opened: Searchable = openStore({ ...first, state: null });
  try {
    // The tree is gone through once for each state: its records are kept where they are not too many.
    const tree = group.length > 1 ? rememberedTree(opened.tree) : opened.tree;
    for (const store of group) {
      const { state } = store;
      const records = state ? recordsIn(state.set, state.state, tree) : recordsOf(tree);
      const inState: FileTree = state ? { ...tree, open: (record) => state.set.open?.(record, tree) ?? tree.open(record) } : tree;
      for (const record of records) if (record.type === "file" && ownPath(record.path) === wanted) yield { store, tree: inState, record };
    }
  } finally {
    opened.close();
  }
}

/** A path as it is compared: without its drive, in one way of writing it. */
const ownPath = (path: string): string =>
  path
    .replaceAll("\\", "/")
    .replace(/^\/?(?:[A-Za-z]:)?\/?/, "")
    .normalize("NFC")
    .toLowerCase();

function take(found: Map<string, Version>, store: Store, copy: Copy, tree: FileTree, record: FileRecord): void {
  const sha256 = copy.condition === "name-only" ? null : hashOf(copy, tree, record);
  const key = `${sha256 ?? `${copy.condition} ${copy.modified}`} ${copy.size}`;
  const version = found.get(key) ?? {
    sha256,
    size: copy.size,
    modified: copy.modified,
    condition: copy.condition,
    path: copy.path.normalize("NFC"),
    stores: [],
    moments: [],
  };
  found.set(key, version);
  if (!version.stores.includes(store.id)) version.stores.push(store.id);
  version.moments.push(store.asOf);
}

const PIECE = 1 << 20;

/** SHA-256 of what stands there; null: it cannot be read. */
function hashOf(copy: Copy, tree: FileTree, record: FileRecord): string | null {
  const hash = createHash("sha256");
  if (copy.size === 0) return hash.digest("hex");
  const opened = copy.file ? tree.open(record) : null;
  if (!copy.layout || (copy.file && !opened)) return null;
  try {
    const content = new LayoutSource(opened?.content ?? tree.disk, copy.layout);
    const piece = Buffer.alloc(Math.min(PIECE, copy.size));
    for (let at = 0; at < copy.size; at += piece.length) {
      const part = piece.subarray(0, Math.min(piece.length, copy.size - at));
      content.read(at, part);
      hash.update(part);
    }
    return hash.digest("hex");
  } finally {
    opened?.close();
  }
}

/** Those of the present come last. */
const firstOf = ({ moments }: Version) => Math.min(...moments.map((moment) => moment ?? Number.MAX_SAFE_INTEGER));

/** A version as the contract of the command line has it. */
function asJson(version: Version): Record<string, unknown> {
  const past = version.moments.filter((moment) => moment !== null);
  return {
    path: version.path,
    from: past.length > 0 ? isoText(Math.min(...past)) : null,
    until: past.length > 0 ? isoText(Math.max(...past)) : null,
    present: version.moments.includes(null),
    modified: isoText(version.modified),
    size: version.size,
    sha256: version.sha256,
    condition: version.condition,
    stores: version.stores,
  };
}

function asWords(version: Version): string {
  const { from, until, present } = asJson(version) as { from: string | null; until: string | null; present: boolean };
  const span = from === null ? "now" : `${from} to ${until}${present ? ", and now" : ""}`;
  return `${span}\t${version.condition}\t${version.size}\t${isoText(version.modified) ?? ""}\t${version.sha256 ?? ""}\t${version.stores.length} ${version.stores.length === 1 ? "store" : "stores"}`;
}

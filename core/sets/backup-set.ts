import type { Layout } from "../bytes/layout";
import type { FileRecord } from "../filesystems/file-record";
import type { FileTree, OpenedFile } from "../places/file-tree";

/** Ways in which a folder's earlier states are kept beside one another. */
export const SET_KINDS = ["dated-copies", "dated-trees", "archive-sets", "dated-archives", "folder-copies", "phone-backups"] as const;
export type SetKindName = (typeof SET_KINDS)[number];

/** One moment of which a set has a state. */
export interface SetState {
  /** Tells it from the other states of its set; stays the same as long as the set does. */
  readonly key: string;
  readonly label: string;
  /** UTC milliseconds; null: nothing says. */
  readonly asOf: number | null;
  /** It was broken off: what it has not says nothing. */
  readonly unfinished: boolean;
  /** Why nothing in it can be read. */
  readonly closed?: string;
  readonly notes: readonly string[];
}

/** A file or folder that stood in a state. */
export interface StandingFile {
  /** It, as the tree has it, or as the set says it was. */
  readonly record: FileRecord;
  /** Where the client had it, "/" first: the path of `record` may be that of the copy in the set. */
  readonly path: string;
}

/** Earlier states of a client's folders, kept as files of a tree. */
export interface BackupSet {
  readonly kind: SetKindName;
  /** The folder of the tree in which it lies; "" for the tree's own root. */
  readonly root: string;
  readonly machine: string | null;
  readonly user: string | null;
  /** Oldest first; those without a time at the end. */
  readonly states: readonly SetState[];
  readonly notes: readonly string[];
  /** Gives the files and folders that stood in a state. @param tree the one in which the set was found */
  standingIn(state: SetState, tree: FileTree): Generator<StandingFile, void, void>;
  /** Opens a file that `standingIn` gave, where the tree cannot by its record alone; null: its content cannot be read. */
  open?(record: FileRecord, tree: FileTree): OpenedFile | null;
  /**
   * Where the bytes of a file stand that `open` opens, as a layout over the tree's disk or the files that hold it; null: nowhere by themselves,
   * so that only `open` gives them.
   */
  placeOf?(record: FileRecord, tree: FileTree): PlaceInTree | null;
  /** What is to be said of a state, which is known only once its container was looked into. */
  notesOf?(state: SetState, tree: FileTree): string[];
  /** Lets go of what it holds open. */
  close?(): void;
}

/**
 * Where bytes stand in a tree: in a file of it. In a folder they may stand in further files too, and the layout counts over all of them, one behind
 * the other.
 */
export interface PlaceInTree {
  readonly layout: Layout;
  readonly holder: FileRecord;
  readonly further: readonly FileRecord[];
}

/** Looks at the records of a tree for sets of one kind. */
export interface SetFinder {
  note(record: FileRecord): void;
  /** @param tree the one whose records were noted */
  found(tree: FileTree): BackupSet[];
}

/** A record that has the path the client had. */
export const asStanding = (record: FileRecord): StandingFile => ({ record, path: record.path });

/** The records of what stood in a state of a set, under the paths the client had. */
export function* recordsIn(set: BackupSet, state: SetState, tree: FileTree): Generator<FileRecord, void, void> {
  // A set knows its own records again: they stay the same objects where nothing is to be changed.
  for (const { record, path } of set.standingIn(state, tree)) yield record.path === path ? record : movedTo(record, path);
}

const STEP = 512;

/** All records of a tree. */
export function* recordsOf(tree: Pick<FileTree, "readRecords">): Generator<FileRecord, void, void> {
  for (const { records } of tree.readRecords(null, STEP)) yield* records;
}

/** The records of what lies below a folder of a tree; some may lie elsewhere. */
export const recordsBelow = (tree: FileTree, folder: string): Generator<FileRecord, void, void> =>
  tree.readBelow?.(folder) ?? recordsOf(tree);

/** A record under another path: where the client had it. */
export function movedTo(record: FileRecord, path: string, notes: readonly string[] = []): FileRecord {
  const name = path.slice(path.lastIndexOf("/") + 1);
  return { ...record, path, name, notes: notes.length > 0 ? [...record.notes, ...notes] : record.notes };
}

/** A copy that something else than a file system made: no record vouches for its being whole, so that its content is looked at. */
export function unvouched(record: FileRecord): FileRecord {
  const { content } = record;
  return content.kind === "placed" ? { ...record, content: { ...content, likeliest: { ...content.likeliest, unguarded: true } } } : record;
}

export const parentOf = (path: string): string => path.slice(0, Math.max(0, path.lastIndexOf("/")));
/** Where a set or a folder lies below another one: "" for itself, else beginning with a slash; null: it does not. */
export const below = (path: string, root: string): string | null =>
  path === root ? "" : path.startsWith(`${root}/`) ? path.slice(root.length) : null;

export const byTime = (a: { readonly asOf: number | null }, b: { readonly asOf: number | null }): number =>
  (a.asOf ?? Number.MAX_SAFE_INTEGER) - (b.asOf ?? Number.MAX_SAFE_INTEGER);

import { statSync } from "node:fs";
import { dirname } from "node:path";
import type { ByteSource } from "../core/bytes/byte-source";
import { firstByte, markForeign } from "../core/bytes/layout";
import { BANDS, BUNDLE_LIST, isBundleList } from "../core/containers/sparse-bundle";
import { type FileRecord, type FileSystem, FileSystemError, likeliest } from "../core/filesystems/file-record";
import { isBackup } from "../core/filesystems/names";
import { identify } from "../core/formats/registry";
import { type FileTree, volumeTree } from "../core/places/file-tree";
import type { BackupSet, SetState } from "../core/sets/backup-set";
import { dateInName } from "../core/sets/named-dates";
import { findSets } from "../core/sets/registry";
import { IN_FUTURE } from "../core/sets/set-facts";
import { looksLikeDisk } from "../core/volumes/holds-disk";
import { openVolume, type VolumeReport } from "../core/volumes/inspect";
import { diskName, isBundle } from "./bundle";
import { FolderSource } from "./folder-source";
import { type InnerFile, type InnerPart, MOST_WITHIN, packLayout } from "./inner-file";
import { type DiskAt, type OpenedSource, openSource } from "./open-source";
import { SourceError } from "./source-error";

/** Something with a tree of named files, or (an image) with volumes that have one each; and how it is opened. */
export interface Store {
  /** The way to it in words that stay the same as long as the source does. */
  readonly id: string;
  /** The store it lies in; null: it is the source itself. */
  readonly parent: string | null;
  readonly kind: "image" | "volume" | "folder" | "snapshot" | "checkpoint" | "set" | "state" | "phone";
  readonly label: string | null;
  /** The moment it speaks for, UTC milliseconds; null: now, or not known. */
  readonly asOf: number | null;
  /** Of a state: the set it is one of, in words that stay the same; null: it is none of a set. */
  readonly set: string | null;
  /** Of a state: the computer, and the user, it was made of; null: nothing says. */
  readonly machine: string | null;
  readonly user: string | null;
  /** The disk it is on, or the folder it is. */
  readonly disk: DiskAt;
  /** Of a volume, and of what lies on one: where it lies on its disk, and as of when it is opened. */
  readonly volume: VolumeReport | null;
  /** Of a state of a backup set: which. */
  readonly state: { readonly set: BackupSet; readonly state: SetState } | null;
  /** Why nothing in it can be read; null: it can. */
  readonly closed: string | null;
  readonly notes: readonly string[];
}

/** Stores that are listed of one source at most: a source that holds more of them is an attack, or has to be opened store by store. */
const MOST_STORES = 4096;
/** Files of one folder that are kept in mind as possible parts of a disk in it. */
const MOST_PARTS = 65_536;

interface Walk {
  /** Also looks for disks inside files. */
  readonly deep: boolean;
  /** Sets of damaged backup files are looked for past their damage, however large those are. */
  readonly thorough: boolean;
  /** Only the way to this store is gone; null: all ways are. */
  readonly wanted: string | null;
  left: number;
  /** Whether something was left out for its number or depth. */
  cut: boolean;
}

/**
 * Lists the stores of a source, from the outermost on, each before those inside it.
 * @returns at its end, whether these are all that can be found: very many, or very deep ones are left out
 * @throws SourceError when the source cannot be opened
 */
export function* listStores(source: DiskAt, deep: boolean, thorough = false): Generator<Store, boolean, void> {
  const walk: Walk = { deep, thorough, wanted: null, left: MOST_STORES, cut: false };
  yield* walkSource(source, walk);
  return !walk.cut;
}

/** Finds a store by its id. @throws SourceError when the source cannot be opened; null: it has no such store */
export function findStore(source: DiskAt, id: string): Store | null {
  for (const store of walkSource(source, { deep: true, thorough: true, wanted: id, left: MOST_STORES, cut: false }))
    if (store.id === id) return store;
  return null;
}

function* walkSource(source: DiskAt, walk: Walk): Generator<Store, void, void> {
  if (!statSync(source.sourcePath, { throwIfNoEntry: false })?.isDirectory() || isBundle(source.sourcePath)) {
    yield* walkDisk(source, "image", null, diskName(source.sourcePath), [], walk);
    return;
  }
  const folder = new FolderSource(source.sourcePath);
  const id = "folder";
  yield {
    ...NO_SET,
    id,
    parent: null,
    kind: "folder",
    label: folder.label,
    asOf: null,
    disk: source,
    volume: null,
    closed: null,
    notes: [],
  };
  if (walk.deep) yield* walkInside(folder, source, null, id, walk);
}

/** @param notes what is to be said of the image before what it says itself */
function* walkDisk(
  disk: DiskAt,
  id: string,
  parent: string | null,
  label: string,
  notes: readonly string[],
  walk: Walk,
  dated: DatedImage | null = null,
): Generator<Store, void, void> {
  const ofSet = dated ? { ...NO_SET, set: dated.set, machine: dated.machine } : NO_SET;
  const asOf = dated?.asOf ?? null;
  const image = { ...ofSet, id, parent, kind: "image", label, asOf, disk, volume: null } as const;
  let opened: OpenedSource;
  try {
    opened = openSource(disk);
  } catch (error) {
    // The source itself must open; a disk inside it that does not is reported as closed.
    if (parent === null || !(error instanceof SourceError)) throw error;
    yield { ...image, closed: error.message, notes };
    return;
  }
  try {
    yield { ...image, closed: null, notes: [...notes, ...(dated ? [WHOLE_IMAGE] : []), ...opened.report.notes] };
    for (const volume of opened.report.volumes) {
      // The view of a compressed file is what is known of it; it is alone in its place.
      const isAlone = volume.view === null || volume.filesystem === "packed";
      const inside = `${id}/volume@${volume.offset}${isAlone ? "" : `:${volume.view}`}`;
      if (!leadsTo(walk, inside)) continue;
      if (volume.filesystem === "unknown" && !volume.closed) continue;
      const found = volume.closed ? volume.closed : openOrWhy(opened, volume);
      const closed = typeof found === "string" ? found : null;
      yield {
        ...ofSet,
        id: inside,
        parent: id,
        kind: "volume",
        label: volume.label,
        asOf,
        disk,
        volume,
        closed,
        notes: volume.notes,
      };
      if (typeof found === "string") continue;
      for (const { view, kind, label: name, asOf, machine = null, notes: own = [] } of found.states?.(walk.thorough) ?? [])
        yield {
          ...NO_SET,
          id: `${inside}/state:${view}`,
          parent: inside,
          kind,
          label: name,
          asOf,
          set: kind === "snapshot" ? `${inside}/snapshots` : kind === "set" ? `${inside}/sets` : null,
          machine,
          disk,
          volume: { ...volume, view },
          closed: null,
          notes: kind === "checkpoint" ? [...own, NOT_KEPT] : own,
        };
      if (walk.deep) yield* walkInside(volumeTree(found, opened.disk, null), disk, volume, inside, walk);
    }
  } finally {
    opened.close();
  }
}

const NO_SET = { set: null, machine: null, user: null, state: null } as const;
const WHOLE_IMAGE =
  "An image of a whole drive, made at a time: take single files out of it. Putting it back as a whole replaces everything on the computer.";

/** A disk image that was made as a backup: it lies in a folder named by a date and a time of day, below one named by the computer. */
interface DatedImage {
  readonly set: string;
  readonly machine: string | null;
  readonly asOf: number;
}

function datedImage(path: string, parent: string): DatedImage | null {
  const [folder = "", machine = "", ...above] = dirname(path).split("/").reverse();
  const date = dateInName(folder);
  if (!date?.precise) return null;
  return { set: `${parent}/images:${[machine, ...above].reverse().join("/").normalize("NFC")}`, machine: machine || null, asOf: date.at };
}

const NOT_KEPT = "Nothing keeps this state: it is there because it was not written over yet, and parts of it may be.";

/** @returns why it cannot be opened, in words, when it cannot */
function openOrWhy({ disk }: OpenedSource, volume: VolumeReport): FileSystem | string {
  try {
    return openVolume(disk, volume);
  } catch (error) {
    if (!(error instanceof FileSystemError)) throw error;
    return error.message;
  }
}

const leadsTo = ({ wanted }: Walk, id: string) => wanted === null || wanted === id || wanted.startsWith(`${id}/`);

/** Looks for what a tree holds: backup sets kept as files in it, and disks inside its files. @param volume the one the tree is on; null: none */
function* walkInside(tree: FileTree, disk: DiskAt, volume: VolumeReport | null, parent: string, walk: Walk): Generator<Store, void, void> {
  if (walk.wanted === null || walk.wanted.startsWith(`${parent}/set:`)) yield* statesIn(tree, disk, volume, parent, walk);
  yield* walkFiles(tree, disk, volume, parent, walk);
}

function* statesIn(tree: FileTree, disk: DiskAt, volume: VolumeReport | null, parent: string, walk: Walk): Generator<Store, void, void> {
  for (const set of findSets(tree))
    try {
      yield* statesOf(set, tree, disk, volume, parent, walk);
    } finally {
      set.close?.();
    }
}

function* statesOf(
  set: BackupSet,
  tree: FileTree,
  disk: DiskAt,
  volume: VolumeReport | null,
  parent: string,
  walk: Walk,
): Generator<Store, void, void> {
  {
    const id = `${parent}/set:${set.kind}:${set.root.normalize("NFC")}`;
    for (const state of set.states) {
      if (walk.left <= 0) {
        walk.cut = true;
        return;
      }
      walk.left -= 1;
      yield {
        id: `${id}/state:${state.key.normalize("NFC")}`,
        parent,
        kind: set.kind === "phone-backups" ? "phone" : "state",
        label: state.label,
        asOf: state.asOf,
        set: id,
        machine: set.machine,
        user: set.user,
        disk,
        volume,
        state: { set, state },
        closed: state.closed ?? null,
        notes: [
          ...state.notes,
          ...(set.notesOf?.(state, tree) ?? []),
          ...set.notes,
          ...((state.asOf ?? 0) > Date.now() ? [IN_FUTURE] : []),
        ],
      };
    }
  }
}

/** Looks for disks inside the files of a tree; in a backup file or archive, for archives too. */
function* walkFiles(tree: FileTree, around: DiskAt, volume: VolumeReport | null, parent: string, walk: Walk): Generator<Store, void, void> {
  const depth = around.within?.length ?? 0;
  if (walk.wanted !== null && !walk.wanted.startsWith(`${parent}/file`)) return;
  // On a drive there may be very many: there an archive is opened by itself, by its name.
  const archives = walk.wanted !== null || (volume !== null && isBackup(volume.filesystem));
  const found = disksAmong(tree, archives, parent, walk);
  const parts = found.size > 0 ? partsBeside(tree, [...found.values()]) : new Map<string, InnerPart[]>();
  for (const [id, record] of found) {
    if (walk.left <= 0 || depth >= MOST_WITHIN) {
      walk.cut = true;
      return;
    }
    walk.left -= 1;
    const inner = toInnerFile(record, parts.get(dirname(record.path)) ?? []);
    yield* walkDisk(
      { ...around, bad: [], mark: null, within: [...(around.within ?? []), inner] },
      id,
      parent,
      diskName(record.path),
      notesOn(record),
      walk,
      datedImage(record.path, parent),
    );
  }
}

const ENOUGH = 512;

function disksAmong(tree: FileTree, archives: boolean, parent: string, walk: Walk): Map<string, FileRecord> {
  const found = new Map<string, FileRecord>();
  for (const { records } of tree.readRecords(null, ENOUGH))
    for (const record of records) {
      const place = likeliest(record);
      if (record.type !== "file" || record.system || !place) continue;
      const id = `${parent}/file${record.file ? "" : `@${firstByte(place.layout)}`}:${record.path.normalize("NFC")}`;
      if (!leadsTo(walk, id) || found.has(id)) continue;
      // One more than may be listed, so that it is known that there are more.
      if (found.size > walk.left) return found;
      const opened = tree.open(record);
      if (!opened) continue;
      try {
        // Beside its list, a bundle keeps a copy of it.
        if (archives && isArchive(opened.content, record.name, walk)) found.set(id, record);
        else if (looksLikeDisk(opened.content) && (record.name === BUNDLE_LIST || !isBundleList(opened.content))) found.set(id, record);
      } finally {
        opened.close();
      }
    }
  return withoutBands(found);
}

/** An archive as such, documents that are built as one are none; and what is compressed as a whole: an archive, a disk, or one file. */
const ARCHIVES: ReadonlySet<string> = new Set(["zip", "tar"]);
const COMPRESSED: ReadonlySet<string> = new Set(["gzip", "bzip2", "xz"]);
/** Bytes of a compressed file that is unpacked to see what is in it; a larger one is opened by itself, by its name. */
const MOST_COMPRESSED = 1 << 30;

function isArchive(content: ByteSource, name: string, walk: Walk): boolean {
  const id = identify(content, name)?.id ?? "";
  if (!COMPRESSED.has(id)) return ARCHIVES.has(id);
  if (content.size <= MOST_COMPRESSED || walk.wanted !== null) return true;
  walk.cut = true;
  return false;
}

/** The bands of a bundle are parts of its disk, and no disks of their own. */
function withoutBands(found: Map<string, FileRecord>): Map<string, FileRecord> {
  const bundles = new Set([...found.values()].filter(({ name }) => name === BUNDLE_LIST).map(({ path }) => `${dirname(path)}/${BANDS}`));
  return bundles.size === 0 ? found : new Map([...found].filter(([, { path }]) => !bundles.has(dirname(path))));
}

/** Files in the same folders, which may be parts or parents of what lies there; of a folder of this computer they are looked up there. */
function partsBeside(tree: FileTree, disks: readonly FileRecord[]): Map<string, InnerPart[]> {
  const parts = new Map<string, InnerPart[]>(disks.map(({ path }) => [dirname(path), []]));
  // The bands of a bundle lie in a folder of their own.
  const bands = new Map(disks.filter(({ name }) => name === BUNDLE_LIST).map(({ path }) => [`${dirname(path)}/${BANDS}`, dirname(path)]));
  if (disks.every(({ file }) => file)) return parts;
  for (const { records } of tree.readRecords(null, ENOUGH))
    for (const record of records) {
      const { type, state, path, name } = record;
      const folder = dirname(path);
      const beside = parts.get(bands.get(folder) ?? folder);
      const layout = likeliest(record)?.layout;
      if (!beside || type !== "file" || state !== "live" || !layout || beside.length >= MOST_PARTS) continue;
      beside.push({ name: bands.has(folder) ? `${BANDS}/${name}` : name, layout: packLayout(layout) });
    }
  return parts;
}

/** What is to be known of a disk because of the file it lies in. */
function notesOn(record: FileRecord): string[] {
  const { state } = record;
  const place = likeliest(record);
  const gone = place ? place.evidence.usedByOthers + place.evidence.takenLater + place.evidence.lost : 0;
  return [
    ...(state === "deleted" ? ["It lies in a deleted file."] : []),
    ...(gone > 0 ? [`${gone} bytes of that file are lost or belong to other files now: they count as bytes that cannot be read.`] : []),
    ...(place && !place.sure ? ["Where that file stood is not recorded: this is the likeliest place."] : []),
  ];
}

/** A live file's record vouches for its place; a deleted one's bytes may have had other owners since, and nothing has looked at all of them. */
const isProven = (record: FileRecord) => record.state === "live" && likeliest(record)?.sure === true && !record.leftover;

function toInnerFile(record: FileRecord, parts: readonly InnerPart[]): InnerFile {
  const { path, file, size, modified, created } = record;
  const place = likeliest(record);
  if (file) return { path, layout: "", file: { path: file, size, modified, created }, proven: true, parts: [] };
  const layout = place ? packLayout(markForeign(place.layout, place.evidence.foreign ?? [])) : "";
  return { path, layout, file: null, proven: isProven(record), parts };
}

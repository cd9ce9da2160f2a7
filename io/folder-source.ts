import { lstatSync, readdirSync, realpathSync, statSync } from "node:fs";
import { basename, join, sep } from "node:path";
import { z } from "zod";
import { type ByteSource, MemorySource } from "../core/bytes/byte-source";
import { type Checkpoint, isNumberCheckpoint, readNumberCheckpoint, readTextCheckpoint, textCheckpoint } from "../core/bytes/checkpoint";
import { ConcatSource } from "../core/bytes/concat-source";
import { pathComponent } from "../core/bytes/text";
import {
  absent,
  type FileRecord,
  type FileSystem,
  type Finding,
  NO_CONTENT,
  placed,
  type RecordBatch,
} from "../core/filesystems/file-record";
import type { FileTree, OpenedFile } from "../core/places/file-tree";
import { mayRead } from "./may-read";
import { ReadOnlyFile, wholeMilliseconds as whole } from "./read-only-file";
import { NotSeenError, SourceError } from "./source-error";

/** Deeper trees are damage, or lead in a circle. */
const MAX_DEPTH = 256;
const MOST_EXAMPLES = 5;
const NOTHING = new MemorySource(new Uint8Array());

/**
 * A folder of this computer as a source: a mounted drive, a copied profile, a backup disk. Only looked at and read; links are
 * shown and never followed, and what cannot be read is noted.
 */
export class FolderSource implements FileSystem, FileTree {
  readonly clusterSize = 1;
  readonly label: string;
  readonly notes: readonly string[] = [];
  readonly allocation = null;
  readonly allocationStart = 0;
  readonly serial = null;
  readonly disk: ByteSource = NOTHING;
  readonly root: string;
  /** The device the folder is on: another one mounted below it is a source of its own. */
  readonly #device: number;
  /** The path of the folder, with the separator that one below it begins behind. (Joining paths takes as long as asking for a file.) */
  readonly #below: string;

  /** @throws SourceError when there is no such folder, or it cannot be listed */
  constructor(path: string) {
    if (!statSync(path, { throwIfNoEntry: false })?.isDirectory())
      throw new NotSeenError(`${path} is not there. Check that the drive is connected and mounted.`);
    this.root = realpathSync(path);
    this.#below = this.root.endsWith(sep) ? this.root : this.root + sep;
    try {
      readdirSync(this.root);
    } catch (error) {
      throw new SourceError(`${path} cannot be listed: ${(error as Error).message}. Run as a user who may read it.`);
    }
    this.#device = statSync(this.root).dev;
    this.label = basename(this.root) || this.root;
  }

  /** What of the tree was not read when it was last walked, with examples. */
  readonly #unread = new Map<string, { count: number; examples: string[] }>();

  /**
   * Gives the records folder by folder in the order of their names, each folder before those in it, so that the same tree always comes in
   * the same order. Work is counted in entries. A checkpoint names the entry that was given last, so that a tree that changed meanwhile
   * goes on behind it: what stands behind it is given once, whatever came or went before it.
   */
  *readRecords(from: Checkpoint | null, step: number): Generator<RecordBatch, void, void> {
    const waiting: { path: string; depth: number }[] = [{ path: "", depth: 0 }];
    this.#unread.clear();
    // Readings that began before checkpoints were paths go on by a count.
    const skipped = from && isNumberCheckpoint(from) ? readNumberCheckpoint(from) : 0;
    const after = from && !isNumberCheckpoint(from) ? lastGiven.parse(readTextCheckpoint(from)) : null;
    let done = after?.done ?? 0;
    let records: FileRecord[] = [];
    // How many there will be is not known before; the folders still waiting are the best guess of what is to come.
    const batch = (folder: string, name: string): RecordBatch => ({
      records,
      resume: textCheckpoint({ folder, name, done } satisfies LastGiven),
      done,
      total: done + waiting.length * 16,
    });
    let last = after ?? { folder: "", name: "" };
    for (let folder = waiting.pop(); folder; folder = waiting.pop()) {
      const { path: folderPath, depth } = folder;
      const order = after ? compareFolders(folderPath, after.folder) : 1;
      // All of it, and all below it, was given.
      if (order < 0 && !isAround(folderPath, after?.folder ?? "")) continue;
      const { entries, problem } = this.#list(folderPath);
      if (problem) {
        this.#miss("Folders that cannot be listed: nothing in them is known.", folderPath || this.root);
        if (order > 0 && done >= skipped) records.push(folderRecord(folderPath, null, problem));
      }
      const below: typeof waiting = [];
      for (const name of entries) {
        const path = folderPath ? `${folderPath}/${name}` : name;
        const given = order < 0 || (order === 0 && name <= (after?.name ?? ""));
        const record = this.#record(path, name, depth >= MAX_DEPTH);
        if (record?.type === "folder" && record.notes.length === 0) below.push({ path, depth: depth + 1 });
        if (given) continue;
        done += 1;
        if (done <= skipped) continue;
        if (record) records.push(record);
        last = { folder: folderPath, name };
        if (records.length < step) continue;
        yield batch(folderPath, name);
        records = [];
      }
      waiting.push(...below.reverse());
    }
    yield { records, resume: textCheckpoint({ ...last, done } satisfies LastGiven), done, total: done };
  }

  readOutside(isSet: (name: string) => boolean): Generator<FileRecord, void, void> {
    return this.#walk("", isSet);
  }

  readBelow(folder: string): Generator<FileRecord, void, void> {
    return this.#walk(folder.replace(/^\//, ""), () => false);
  }

  /** Goes through what lies below a folder; within folders of some names only through the folders. */
  *#walk(from: string, foldersOnly: (name: string) => boolean): Generator<FileRecord, void, void> {
    const waiting = [{ path: from, depth: from === "" ? 0 : from.split("/").length, inside: false }];
    for (let next = waiting.pop(); next; next = waiting.pop()) {
      const below: typeof waiting = [];
      for (const name of next.inside ? this.#listFolders(next.path) : this.#list(next.path).entries) {
        const path = next.path ? `${next.path}/${name}` : name;
        const record = this.#record(path, name, next.depth >= MAX_DEPTH);
        if (!record) continue;
        yield record;
        if (record.type === "folder" && record.notes.length === 0)
          below.push({ path, depth: next.depth + 1, inside: next.inside || foldersOnly(name) });
      }
      waiting.push(...below.reverse());
    }
  }

  #listFolders(path: string): string[] {
    try {
      const entries = readdirSync(join(this.root, path), { withFileTypes: true });
      return entries.flatMap((entry) => (entry.isDirectory() ? [entry.name] : [])).sort();
    } catch {
      return [];
    }
  }

  open(record: FileRecord): OpenedFile | null {
    if (!record.file) return null;
    try {
      const { disk, close } = openFileIn(this.root, record.file);
      return { content: disk, close };
    } catch {
      return null;
    }
  }

  #list(path: string): { entries: string[]; problem: string | null } {
    try {
      return { entries: readdirSync(join(this.root, path)).sort(), problem: null };
    } catch (error) {
      return {
        entries: [],
        problem: `This folder cannot be listed: ${(error as NodeJS.ErrnoException).code ?? (error as Error).message}.`,
      };
    }
  }

  /** What could not be read, or is not followed, since the walk began. */
  findings(): Finding[] {
    return [...this.#unread].map(([what, { count, examples }]) => ({ what, count, examples }));
  }

  #miss(what: string, path: string): void {
    const found = this.#unread.get(what) ?? { count: 0, examples: [] };
    this.#unread.set(what, found);
    found.count += 1;
    if (found.examples.length < MOST_EXAMPLES) found.examples.push(shortened(path));
  }

  #record(path: string, name: string, tooDeep: boolean): FileRecord | null {
    const stats = lstatSync(this.#below + path, { throwIfNoEntry: false });
    // Names that are no text come with a mark in place of what is wrong, and nothing of that name is there.
    if (!stats) {
      if (!name.includes("\uFFFD")) return null;
      this.#miss("Names that hold bytes which are no text: what they stand for cannot be opened from here.", path);
      return namelessRecord(path);
    }
    if (stats.isDirectory()) {
      const elsewhere = stats.dev !== this.#device;
      if (elsewhere) this.#miss("Folders at which another device is mounted: it is a source of its own.", path);
      else if (tooDeep) this.#miss(`Folders nested deeper than ${MAX_DEPTH}: nothing in them is known.`, path);
      const why = elsewhere
        ? "Another device is mounted here: add it as a source of its own."
        : tooDeep
          ? `It is nested deeper than ${MAX_DEPTH} folders: what is in it was not read. Add it as a source of its own.`
          : null;
      return folderRecord(path, { created: stats.birthtimeMs, modified: stats.mtimeMs, changed: stats.ctimeMs }, why);
    }
    const plain = stats.isFile();
    const notes: string[] = [];
    const why = stats.isSymbolicLink() ? "A link to another place: shown, never followed." : "No ordinary file: it has no content to read.";
    if (stats.isSymbolicLink()) this.#miss("Links to another place: shown, never followed.", path);
    else if (!plain) this.#miss("Pipes, sockets and devices: they have no content to read.", path);
    else if ((stats.mode & READ_BY_ALL) !== READ_BY_ALL && !mayRead(join(this.root, path))) {
      this.#miss("Files this user may not read.", path);
      notes.push("This user may not read it. Run as one who may, or change its permissions on a copy.");
    }
    const size = plain ? stats.size : 0;
    // Field by field: spreading costs more than all the rest, and files come by the million.
    return {
      reference: `file ${path || "."}`,
      state: "live",
      path: `/${path}`,
      name: pathComponent(name),
      rawName: encodeName(name),
      type: "file",
      system: false,
      streams: NO_STREAMS,
      size,
      created: whole(stats.birthtimeMs),
      modified: whole(stats.mtimeMs),
      changed: whole(stats.ctimeMs),
      content: plain ? placed({ size, segments: size > 0 ? [{ kind: "disk", at: 0, length: size }] : [] }) : absent("not-followed", why),
      file: plain ? path : null,
      identity: `${stats.dev}:${stats.ino}`,
      links: stats.nlink,
      notes,
    };
  }
}

/** What a checkpoint keeps: the entry that was given last, and how many were. */
const lastGiven = z.object({ folder: z.string(), name: z.string(), done: z.number().int().nonnegative() });
type LastGiven = z.infer<typeof lastGiven>;

/** Orders folders as they are walked: each before those in it, those beside each other by name. */
function compareFolders(a: string, b: string): number {
  const [one, other] = [a ? a.split("/") : [], b ? b.split("/") : []];
  for (let at = 0; at < Math.min(one.length, other.length); at += 1) {
    const [left, right] = [one[at] as string, other[at] as string];
    if (left !== right) return left < right ? -1 : 1;
  }
  return one.length - other.length;
}

/** Whether a folder is one of those around another. */
const isAround = (folder: string, inner: string) => folder === "" || inner.startsWith(`${folder}/`);

/** A path of an example, without its middle where it is very long. */
const shortened = (path: string) => (path.length <= 160 ? path : `${path.slice(0, 80)} … ${path.slice(-76)}`);

function shared(path: string) {
  return {
    reference: `file ${path || "."}`,
    state: "live" as const,
    path: `/${path}`,
    system: false,
    streams: [],
    links: 1,
  };
}

/** The bits of a file's mode by which anybody may read it. */
const READ_BY_ALL = 0o444;
const TEXT = new TextEncoder();
/** Names are encoded one behind the other: memory of its own for each would take longer than asking for the file. */
const NAMES_TOGETHER = 16 * 1024;
let names = new Uint8Array(NAMES_TOGETHER);
let namesUsed = 0;

/** The bytes of a name, in UTF-8. */
function encodeName(name: string): Uint8Array {
  // A unit of UTF-16 takes three bytes at most.
  if (name.length * 3 > NAMES_TOGETHER) return TEXT.encode(name);
  if (namesUsed + name.length * 3 > NAMES_TOGETHER) {
    names = new Uint8Array(NAMES_TOGETHER);
    namesUsed = 0;
  }
  const begin = namesUsed;
  // The encoder takes longer to be asked than most names are long: it is for those that are more than ASCII.
  namesUsed += writeAscii(name, begin) ? name.length : TEXT.encodeInto(name, names.subarray(begin)).written;
  return names.subarray(begin, namesUsed);
}
const NO_STREAMS: FileRecord["streams"] = [];

/** Writes a name to `names` where it is plain ASCII. @returns whether it is */
function writeAscii(name: string, begin: number): boolean {
  for (let at = 0; at < name.length; at += 1) {
    const unit = name.charCodeAt(at);
    if (unit >= 0x80) return false;
    names[begin + at] = unit;
  }
  return true;
}

/** A file whose name cannot be known, so that nobody misses it without knowing. */
const namelessRecord = (path: string): FileRecord => ({
  ...shared(path),
  name: path.slice(path.lastIndexOf("/") + 1),
  rawName: new Uint8Array(),
  type: "file",
  size: 0,
  created: null,
  modified: null,
  changed: null,
  content: absent("not-followed", "Its name holds bytes that are no text: it cannot be opened from here. Give it another name on a copy."),
  notes: [],
});

function folderRecord(
  path: string,
  times: { created: number; modified: number; changed: number } | null,
  problem: string | null,
): FileRecord {
  const name = path.slice(path.lastIndexOf("/") + 1);
  return {
    ...shared(path),
    name: pathComponent(name),
    rawName: TEXT.encode(name),
    type: "folder",
    size: 0,
    created: times ? whole(times.created) : null,
    modified: times ? whole(times.modified) : null,
    changed: times ? whole(times.changed) : null,
    content: NO_CONTENT,
    notes: problem ? [problem] : [],
  };
}

/** A file of a folder as it was when its folder was read. */
export interface FileAt {
  /** Below the folder, without a slash first. */
  readonly path: string;
  /** Bytes. */
  readonly size: number;
  /** UTC milliseconds; null: not known, and not compared. */
  readonly modified: number | null;
  /** When its name began to mean this file, which another file in its place does not share; UTC milliseconds, null: not known. */
  readonly created: number | null;
  /** Files that go on where this one ends. */
  readonly further?: readonly FileAt[];
}

/**
 * Opens a file of a folder, with those that go on where it ends, as they were when the folder was read.
 * @throws SourceError when one is not there any more, leads out of the folder, or is another version now
 */
export function openVersions(root: string, file: FileAt): { disk: ByteSource; close(): void } {
  const opened: { disk: ReadOnlyFile; close(): void }[] = [];
  const close = () => {
    for (const each of opened.splice(0)) each.close();
  };
  try {
    for (const each of [file, ...(file.further ?? [])]) opened.push(openVersion(root, each));
  } catch (error) {
    close();
    throw error;
  }
  return { disk: opened.length === 1 && opened[0] ? opened[0].disk : new ConcatSource(opened.map(({ disk }) => disk)), close };
}

/**
 * Opens one file of a folder as it was when the folder was read.
 * @throws SourceError when it is not there any more, leads out of the folder, or is another version now
 */
export function openVersion(root: string, file: FileAt): { disk: ReadOnlyFile; close(): void } {
  const opened = openFileIn(root, file.path);
  const now = opened.disk.version();
  const why =
    now.size !== file.size
      ? `it has ${now.size} bytes now and had ${file.size}`
      : file.modified !== null && now.modified !== file.modified
        ? "it was written to since"
        : file.created !== null && now.created !== null && now.created !== file.created
          ? "another file is in its place"
          : null;
  if (why === null) return opened;
  opened.close();
  throw new SourceError(`${join(root, file.path)} is another version than the one that was read (${why}): read the folder again.`);
}

/**
 * Opens one file below a folder for reading only.
 * @throws SourceError when it is not there any more, or leads out of the folder
 */
export function openFileIn(root: string, file: string): { disk: ReadOnlyFile; close(): void } {
  const base = realpathSync(root);
  const path = join(base, file);
  // A file or folder that became a link since it was read must not lead elsewhere; pipes and devices are not waited for.
  if (!path.startsWith(base.endsWith(sep) ? base : base + sep) || realpathOf(path) !== path || !lstatSync(path).isFile())
    throw new SourceError(`${path} is not there any more as an ordinary file.`);
  try {
    const disk = new ReadOnlyFile(path);
    return { disk, close: () => disk.close() };
  } catch (error) {
    throw new SourceError(`${path} cannot be read: ${(error as Error).message}.`);
  }
}

function realpathOf(path: string): string | null {
  try {
    return realpathSync(path);
  } catch {
    return null;
  }
}

import { lstatSync, readdirSync, statSync } from "node:fs";
import { basename, dirname, join } from "node:path";
import { type ByteSource, CachedSource, readBytes } from "../core/bytes/byte-source";
import { KnownBadSource } from "../core/bytes/known-bad";
import type { Range } from "../core/bytes/range-set";
import { keepIndexesIn } from "../core/bytes/unpack-index";
import { type Container, ContainerError, MissingFileError } from "../core/containers/container";
import { openContainer } from "../core/containers/open-container";
import { text } from "../core/formats/texts/text";
import { type DiskReport, inspectDisk } from "../core/volumes/inspect";
import { diskFile, LazyFile } from "./bundle";
import { openVersion, openVersions } from "./folder-source";
import { type InnerFile, type InnerPart, MOST_WITHIN, readInner } from "./inner-file";
import { indexesIn } from "./kept-indexes";
import { ReadOnlyFile } from "./read-only-file";
import { NotSeenError, SourceError } from "./source-error";
import { markOf } from "./source-mark";

export interface OpenedDisk {
  /** The bytes of the disk, whatever holds it. */
  readonly disk: CachedSource;
  /** Learns of a stretch that another reader of the disk could not read. Disk byte offsets. */
  noteBad(range: Range): void;
  readonly container: Container;
  /** Of a disk inside another: the files beside it that were needed. */
  readonly parts: readonly InnerPart[];
  close(): void;
}

export interface OpenedSource extends OpenedDisk {
  readonly report: DiskReport;
}

/** Where the bytes of a source are, and what is known of them. */
export interface SourceAt {
  readonly sourcePath: string;
  /** Further files that hold parts or parents of the source. */
  readonly beside: readonly string[];
  /** Of a disk inside another: the files that lead to it, from the outermost on. */
  readonly within: readonly InnerFile[];
  /** Stretches of the disk that are known to be unreadable: they are not asked for again. Disk byte offsets. */
  readonly bad: readonly Range[];
  /** The mark of the disk that is meant (`markOf`); null: it has none, and any is taken. */
  readonly mark: string | null;
}

/** Only what says where a source is, of something that says more. */
export const pickSourceAt = ({ sourcePath, beside, within, bad, mark }: SourceAt): SourceAt => ({ sourcePath, beside, within, bad, mark });

/** A source of which less may be known. */
export type DiskAt = Pick<SourceAt, "sourcePath"> & { readonly [K in keyof SourceAt]?: SourceAt[K] | undefined };

// What was learnt of a large compressed file is kept in the application's data folder; the command line, which has none, makes it anew.
const { COMPASS_DATA } = process.env;
if (COMPASS_DATA) keepIndexesIn(indexesIn(join(COMPASS_DATA, "unpacked")));

/** Files beside a source that are looked at for parts and parents at most. */
const MAX_BESIDE = 20_000;

/**
 * Opens the bytes of a disk for reading only, without looking at what is on it: of an image, a drive, or an image inside others.
 * @throws SourceError when it cannot be opened, or another disk is there now
 */
export function openDisk({ sourcePath, beside = [], within = [], bad = [], mark = null }: DiskAt): OpenedDisk {
  const opened: { close(): void }[] = [];
  const close = () => {
    for (const file of opened.splice(0)) file.close();
  };
  const hold = <File extends { close(): void }>(file: File): File => {
    opened.push(file);
    return file;
  };
  let path = diskFile(sourcePath);
  let parts: InnerPart[] = [];
  try {
    if (within.length > MOST_WITHIN) throw new SourceError(`Disks are nested more than ${MOST_WITHIN} deep here: this is not followed.`);
    const inFolder = within[0]?.file ?? null;
    if (inFolder) path = join(sourcePath, inFolder.path);
    const [first] = within;
    let container =
      inFolder && first && first.layout !== ""
        ? openInner(new CachedSource(hold(openVersions(sourcePath, inFolder)).disk), first, parts)
        : openOutermost(path, beside, hold, inFolder && hold(openVersion(sourcePath, inFolder).disk));
    for (const inner of inFolder ? within.slice(1) : within) {
      path = `${sourcePath}, in it ${inner.path}`;
      parts = [];
      container = openInner(new CachedSource(container.disk), inner, parts);
    }
    const known = new KnownBadSource(container.disk, bad);
    // What is known to be bad is read all the same here: a place that was bad once must not let any other disk pass.
    const present = mark === null ? null : markOf(container.disk);
    if (present !== null && present !== mark) throw new NotSeenError(ANOTHER(path));
    return { disk: new CachedSource(known), noteBad: (range) => known.add(range), container, parts, close };
  } catch (error) {
    close();
    throw error instanceof ContainerError ? new SourceError(`${path}: ${error.message}`, error instanceof MissingFileError) : error;
  }
}

/** Opens the container in a file of this computer, with the files beside it and those that were named by hand. */
function openOutermost(
  path: string,
  beside: readonly string[],
  hold: <File extends { close(): void }>(file: File) => File,
  own: ReadOnlyFile | null,
) {
  const file = own ?? hold(openFile(path));
  const folder = dirname(path);
  const further = new Map(beside.map((each) => [basename(each), each]));
  // A link beside the source might lead out of the folders that may be read; files that were named by hand may be links.
  const place = (name: string) => {
    const given = further.get(name);
    if (given) return given;
    const within = dirname(name);
    if (within !== "." && !lstatSync(join(folder, within), { throwIfNoEntry: false })?.isDirectory()) return null;
    return lstatSync(join(folder, name), { throwIfNoEntry: false })?.isFile() ? join(folder, name) : null;
  };
  return openContainer(file, {
    name: basename(path),
    list: () => [...further.keys(), ...filesIn(folder)],
    open: (name) => {
      const found = place(name);
      if (!found) return null;
      // What lies in a folder beside it may be very many files.
      return name.includes("/") ? hold(new LazyFile(found, statSync(found).size)) : hold(openFile(found));
    },
  });
}

/** Opens the container in a file on a volume of a disk. @param opened takes the files beside it that are needed */
function openInner(disk: ByteSource, inner: InnerFile, opened: InnerPart[]): Container {
  const parts = new Map(inner.parts.map((part) => [part.name, part]));
  return openContainer(readInner(disk, inner.layout), {
    name: basename(inner.path),
    list: () => [...parts.keys()],
    open: (name) => {
      const part = parts.get(name);
      if (!part) return null;
      if (!opened.includes(part)) opened.push(part);
      return readInner(disk, part.layout);
    },
  });
}

const ANOTHER = (path: string) =>
  `${path} is not what it was when it was read: another image is there now, or it was changed. Put the right one there, say in the sources where it is now, or let its structure be read again.`;

function filesIn(folder: string): string[] {
  try {
    return readdirSync(folder).slice(0, MAX_BESIDE);
  } catch {
    // A folder that may be entered but not listed: parts and parents are then found by their names alone.
    return [];
  }
}

/** Opens an image for reading only. One that looks like something else is opened too, with a note. @throws SourceError when it is missing, unreadable or empty */
export function openSource(source: string | DiskAt): OpenedSource {
  const at = typeof source === "string" ? { sourcePath: source } : source;
  const opened = openDisk(at);
  const { disk, container } = opened;
  const report = inspectDisk(disk, container);
  if (disk.size === 0) {
    opened.close();
    throw new SourceError(`${at.within?.at(-1)?.path ?? at.sourcePath} is empty.`);
  }
  const nothing = report.volumes.every((volume) => volume.filesystem === "unknown") && report.table === "none" && container.kind === "raw";
  // What begins with text may still be the image of a drive that was written over: it is taken, with a warning.
  const begins = nothing && text.recognise(readBytes(disk, 0, Math.min(4096, disk.size)));
  return begins ? { ...opened, report: { ...report, notes: [...report.notes, LOOKS_LIKE_TEXT] } } : { ...opened, report };
}

const LOOKS_LIKE_TEXT =
  "It begins like a text file, and no volume is recognised on it: it may not be the image of a drive. Raw content can still be looked for.";

function openFile(path: string): ReadOnlyFile {
  if (statSync(path, { throwIfNoEntry: false })?.isDirectory())
    throw new SourceError(`${path} is a folder; choose the image of a drive or volume in it.`);
  try {
    return new ReadOnlyFile(path);
  } catch (error) {
    if (error instanceof SourceError) throw error;
    const { code } = error as NodeJS.ErrnoException;
    if (code === "ENXIO") throw new SourceError(`${path} is a socket, or a device that is not there: it has no bytes to be read from.`);
    if (code === "ENOENT" || code === "ENOTDIR")
      throw new NotSeenError(`${path} is not there. Check that the drive is connected and the path is right.`);
    if (code === "EACCES" || code === "EPERM")
      throw new SourceError(`${path} may not be read by this user. Change its permissions or run as a user who may.`);
    if (code === "ENOMEDIUM") throw new SourceError(`There is no card or disk in ${path}. Put it in and try again.`);
    throw new SourceError(`${path} cannot be opened: ${(error as Error).message}.`);
  }
}

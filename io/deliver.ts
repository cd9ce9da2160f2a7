import { createHash, type Hash, randomUUID } from "node:crypto";
import {
  closeSync,
  constants,
  existsSync,
  fsyncSync,
  linkSync,
  lstatSync,
  mkdirSync,
  openSync,
  readSync,
  realpathSync,
  renameSync,
  rmSync,
  type Stats,
  unlinkSync,
  utimesSync,
  writeSync,
} from "node:fs";
import { lstat } from "node:fs/promises";
import { basename, dirname, extname, join } from "node:path";
import type { ByteSource } from "../core/bytes/byte-source";
import { numberedName } from "../core/restore/names";

const STEP = 1 << 20;
const MAX_NUMBER = 10_000;

/** What to do when a file of that name is already at the destination. */
export type Conflict = "keep-both" | "replace" | "skip";

export interface Delivered {
  /** Absolute path of the file written. */
  readonly output: string;
  /** Bytes. */
  readonly size: number;
  /** SHA-256 of the file as read again from the destination, hexadecimal. */
  readonly sha256: string;
}

/** Something at the destination forbids writing there. The message says what, in plain words. */
export class DeliveryError extends Error {
  constructor(message: string) {
    super(message);
    this.name = "DeliveryError";
  }
}

/** A file written completely and read again, which has not got its name yet. */
export interface Staged {
  readonly folder: string;
  readonly name: string;
  readonly working: string;
  readonly size: number;
  readonly sha256: string;
}

/**
 * Writes one file's content below `root` under a working name, reads it again and compares.
 * @param components safe folder and file names, the file's own last
 * @param workingName a name no other writer uses; a file left under it by an earlier try is written over
 * @throws DeliveryError when the path leads through a link or a file, or the bytes read again differ
 */
export function stage(
  content: ByteSource,
  root: string,
  components: readonly string[],
  options: { workingName: string; modified?: number | null; onBytes?: (bytes: number) => void },
): Staged {
  const name = components[components.length - 1];
  if (!name) throw new DeliveryError("The file has no name to write it under.");
  const folder = makeFolders(realpathSync(root), components.slice(0, -1));
  const working = join(folder, options.workingName);
  rmSync(working, { force: true });
  try {
    const written = writeAll(content, working, options.onBytes);
    const sha256 = hashFile(working);
    if (written !== sha256)
      throw new DeliveryError(
        "The bytes read again from the destination differ from those written: the destination device may be failing.",
      );
    if (options.modified != null) utimesSync(working, options.modified / 1000, options.modified / 1000);
    return { folder, name, working, size: content.size, sha256 };
  } catch (error) {
    rmSync(working, { force: true });
    throw error;
  }
}

/** Whether a file of that name is already where it would be written. A file in place of a folder above it is reported when writing. */
export function isTaken(root: string, components: readonly string[]): boolean {
  return statusOf(join(root, ...components)) !== null;
}

function statusOf(path: string): Stats | null {
  try {
    return lstatSync(path, { throwIfNoEntry: false }) ?? null;
  } catch (error) {
    if ((error as NodeJS.ErrnoException).code === "ENOTDIR") return null;
    throw error;
  }
}

/** What is at a place below the destination; null: nothing. */
export async function whatIsThere(root: string, components: readonly string[]): Promise<{ size: number; modified: Date } | null> {
  const stats = await lstat(join(root, ...components)).catch((error: NodeJS.ErrnoException) => {
    if (error.code === "ENOENT" || error.code === "ENOTDIR" || error.code === "ENAMETOOLONG") return null;
    throw error;
  });
  return stats && { size: stats.size, modified: stats.mtime };
}

/** Writes, reads again and names one file. @returns null when a file was there and `conflict` is "skip" */
export function deliver(
  content: ByteSource,
  root: string,
  components: readonly string[],
  options: { conflict: Conflict; modified?: number | null },
): Delivered | null {
  if (options.conflict === "skip" && isTaken(root, components)) return null;
  const staged = stage(content, root, components, { workingName: workingName(randomUUID()), modified: options.modified ?? null });
  try {
    for (const target of targets(staged, options.conflict)) {
      if (publish(staged, target, options.conflict)) return { output: target, size: staged.size, sha256: staged.sha256 };
    }
    throw new DeliveryError(`There are already ${MAX_NUMBER} files called “${staged.name}” at the destination.`);
  } finally {
    rmSync(staged.working, { force: true });
  }
}

export const workingName = (mark: string) => `.restoring-${mark}`;

/**
 * The names to try, in order. A name that this restore has given to another of its files is never one of them: how to settle a conflict
 * was said of what was there before.
 * @param given whether a path is one of those
 */
export function* targets(staged: Staged, conflict: Conflict, given: (path: string) => boolean = () => false): Generator<string> {
  const first = join(staged.folder, staged.name);
  const own = given(first);
  if (!own) yield first;
  if (conflict !== "keep-both" && !own) return;
  for (let number = 2; number <= MAX_NUMBER; number += 1) {
    const path = join(staged.folder, numberedName(staged.name, number));
    if (!given(path)) yield path;
  }
}

/** Makes the folders one by one, so that a link planted among them is seen before anything is written through it. */
function makeFolders(root: string, names: readonly string[]): string {
  let folder = root;
  for (const name of names) {
    folder = join(folder, name);
    try {
      mkdirSync(folder);
    } catch (error) {
      if ((error as NodeJS.ErrnoException).code !== "EEXIST") throw error;
      if (!lstatSync(folder).isDirectory()) throw new DeliveryError(`“${folder}” is in the way: it is a link or a file, not a folder.`);
    }
  }
  return folder;
}

function writeAll(content: ByteSource, path: string, onBytes?: (bytes: number) => void): string {
  const file = openSync(path, constants.O_WRONLY | constants.O_CREAT | constants.O_EXCL, 0o644);
  const hash = createHash("sha256");
  try {
    const block = new Uint8Array(Math.min(STEP, Math.max(1, content.size)));
    for (let at = 0; at < content.size; at += STEP) {
      const part = block.subarray(0, Math.min(STEP, content.size - at));
      content.read(at, part);
      hash.update(part);
      for (let done = 0; done < part.length; ) done += writeSync(file, part, done);
      onBytes?.(part.length);
    }
    fsyncSync(file);
  } finally {
    closeSync(file);
  }
  return hash.digest("hex");
}

/** SHA-256 of a file, hexadecimal. */
export function hashFile(path: string): string {
  const file = openSync(path, constants.O_RDONLY);
  const hash: Hash = createHash("sha256");
  try {
    const block = new Uint8Array(STEP);
    for (let got = readSync(file, block); got > 0; got = readSync(file, block)) hash.update(block.subarray(0, got));
  } finally {
    closeSync(file);
  }
  return hash.digest("hex");
}

export interface Published {
  /** Where the file that was there before is kept; null: there was none. */
  readonly aside: string | null;
  /** UTC milliseconds of its last change, as the destination keeps it. */
  readonly leftAt: number;
}

/**
 * Gives the finished file its name. A link fails when the name is taken, so two writers never meet on one. A file that is replaced is
 * kept beside the new one.
 * @returns null when the name is taken and may not be replaced
 */
export function publish(staged: Staged, target: string, conflict: Conflict): Published | null {
  const leftAt = lstatSync(staged.working).mtimeMs;
  if (conflict === "replace") {
    const there = statusOf(target);
    if (there && !there.isFile()) throw new DeliveryError(`“${target}” is in the way: it is not a file.`);
    const aside = there && putAside(target);
    renameSync(staged.working, target);
    return { aside, leftAt };
  }
  try {
    linkSync(staged.working, target);
    unlinkSync(staged.working);
    return { aside: null, leftAt };
  } catch (error) {
    const { code } = error as NodeJS.ErrnoException;
    if (code === "EEXIST") return null;
    if (!NO_LINKS.has(code ?? "")) throw error;
    // There the name is looked at first, then taken.
    if (existsSync(target)) return null;
    renameSync(staged.working, target);
    return { aside: null, leftAt };
  }
}

/** What devices answer that know no links (FAT, exFAT). */
const NO_LINKS: ReadonlySet<string> = new Set(["EPERM", "ENOTSUP", "EOPNOTSUPP"]);

/** Gives a file that is to be replaced a second name beside its own. @returns that name */
function putAside(path: string): string {
  const name = basename(path);
  const moment = new Date().toISOString().slice(0, 16).replace("T", " ").replace(":", ".");
  const extension = extname(name);
  const kept = `${name.slice(0, name.length - extension.length)} (replaced ${moment} UTC)${extension}`;
  for (let number = 1; number <= MAX_NUMBER; number += 1) {
    const aside = join(dirname(path), number === 1 ? kept : numberedName(kept, number));
    try {
      linkSync(path, aside);
      return aside;
    } catch (error) {
      const { code } = error as NodeJS.ErrnoException;
      if (code === "EEXIST") continue;
      if (!NO_LINKS.has(code ?? "")) throw error;
      if (existsSync(aside)) continue;
      renameSync(path, aside);
      return aside;
    }
  }
  throw new DeliveryError(`“${path}” could not be kept aside: there are too many earlier ones.`);
}

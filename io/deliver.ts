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
  unlinkSync,
  utimesSync,
  writeSync,
} from "node:fs";
import { join } from "node:path";
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

/** Whether a file of that name is already where it would be written. A file in place of a folder above it is told when writing. */
export function isTaken(root: string, components: readonly string[]): boolean {
  try {
    return lstatSync(join(root, ...components), { throwIfNoEntry: false }) !== undefined;
  } catch (error) {
    if ((error as NodeJS.ErrnoException).code === "ENOTDIR") return false;
    throw error;
  }
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

/** The names to try, in order. */
export function* targets(staged: Staged, conflict: Conflict): Generator<string> {
  yield join(staged.folder, staged.name);
  if (conflict !== "keep-both") return;
  for (let number = 2; number <= MAX_NUMBER; number += 1) yield join(staged.folder, numberedName(staged.name, number));
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

/**
 * Gives the finished file its name. A link fails when the name is taken, so two writers never meet on one.
 * @returns false when the name is taken and may not be replaced
 */
export function publish(staged: Staged, target: string, conflict: Conflict): boolean {
  if (conflict === "replace") {
    if (existsSync(target) && !lstatSync(target).isFile()) throw new DeliveryError(`“${target}” is in the way: it is not a file.`);
    renameSync(staged.working, target);
    return true;
  }
  try {
    linkSync(staged.working, target);
    unlinkSync(staged.working);
    return true;
  } catch (error) {
    const { code } = error as NodeJS.ErrnoException;
    if (code === "EEXIST") return false;
    // Devices formatted FAT or exFAT know no links: there the name is looked at first, then taken.
    if (code !== "EPERM" && code !== "ENOTSUP" && code !== "EOPNOTSUPP") throw error;
    if (existsSync(target)) return false;
    renameSync(staged.working, target);
    return true;
  }
}

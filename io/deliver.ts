import { createHash } from "node:crypto";
import { closeSync, constants, fsyncSync, lstatSync, openSync, readdirSync, rmSync, type Stats, writeSync } from "node:fs";
import { lstat } from "node:fs/promises";
import { hostname } from "node:os";
import { join, relative, sep } from "node:path";
import type { ByteSource } from "../core/bytes/byte-source";
import { type Carried, type FileFacts, NO_FACTS, NOTHING_CARRIED } from "../core/restore/carried";
import { numberedName } from "../core/restore/names";
import { carriedBy, carry } from "./carry";
import { DeliveryError, giveName, MAX_NUMBER, namesFor, putAside, statusOf, type Taken } from "./give-name";
import { FolderInTheWayError, HeldFolder } from "./held-folder";
import { type ReadBack, readBack, STEP, type Written } from "./read-back";

/** Folders below the destination that are held open at once at most. */
const MOST_HELD = 32;

export interface Delivered extends ReadBack {
  /** Absolute path of the file written. */
  readonly output: string;
  /** Bytes. */
  readonly size: number;
  /** What stands there with it beside its content. */
  readonly carried: Carried;
}

/** A file written completely and read again, which has not got its name yet. */
export interface Staged extends ReadBack {
  /** Names of the folders below the destination it belongs into. */
  readonly folders: readonly string[];
  readonly name: string;
  /** Its name in the working folder. */
  readonly working: string;
  /** Bytes. */
  readonly size: number;
}

export interface Published {
  /** Where the file that was there before is kept; null: there was none. */
  readonly aside: string | null;
  /** UTC milliseconds of its last change, as the destination keeps it. */
  readonly leftAt: number;
}

/** What is at a place below the destination; null: nothing. */
export async function whatIsThere(root: string, components: readonly string[]): Promise<{ size: number; modified: Date } | null> {
  const stats = await lstat(join(root, ...components)).catch((error: NodeJS.ErrnoException) => {
    if (error.code === "ENOENT" || error.code === "ENOTDIR" || error.code === "ENAMETOOLONG") return null;
    throw error;
  });
  return stats && { size: stats.size, modified: stats.mtime };
}

/**
 * A destination that is written to, held from its opening to its closing. Files are written in a working folder of its own, read again,
 * and only then get their names; closing removes the working folder, whatever is left in it. Links below the destination are never
 * followed, and nothing gets a name any more once another folder stands in the destination's place.
 */
export class Delivery {
  readonly #root: HeldFolder;
  readonly #workingName: string;
  #working: HeldFolder | null = null;
  readonly #held = new Map<string, HeldFolder>();
  readonly #unsynced = new Set<HeldFolder>();
  /** Whether its file system is NTFS; not set: nothing was asked for that only NTFS has. */
  readonly #ntfs: { known?: boolean } = {};
  #isOwn: (path: string) => boolean = () => false;
  /** What was written last, until it was read again. */
  readonly #memory: Uint8Array[] = [];

  /** @param mark tells this writer's working folder from those of others that write to the same place */
  private constructor(root: HeldFolder, mark: string) {
    this.#root = root;
    this.#workingName = WORKING + mark;
  }

  /**
   * Opens a destination.
   * @param base a folder that is there; links in this path are followed
   * @param folders names of folders below it that are made where needed; links among them are not followed
   */
  static open(base: string, folders: readonly string[], mark: string): Delivery {
    let folder = HeldFolder.open(base);
    for (const name of folders) {
      const above = folder;
      try {
        folder = above.child(name);
      } finally {
        above.close();
      }
    }
    return new Delivery(folder, mark);
  }

  /** Opens a destination for this process alone. What earlier ones of this computer left behind when they were killed is removed. */
  static openHere(root: string, folders: readonly string[] = []): Delivery {
    const delivery = Delivery.open(root, folders, `${OF_PROCESSES}${process.pid}`);
    for (const name of readdirSync(delivery.#root.at("."))) {
      const pid = name.startsWith(WORKING + OF_PROCESSES) ? Number(name.slice((WORKING + OF_PROCESSES).length)) : 0;
      if (pid > 0 && !isRunning(pid)) delivery.removeWorking(name);
    }
    return delivery;
  }

  /**
   * Says which files the present restore has written. A folder that is called like one of these gets a number behind its name; any other file in the way of a
   * folder is reported.
   * @param isOwn is asked for an absolute path
   */
  distinguish(isOwn: (path: string) => boolean): this {
    this.#isOwn = isOwn;
    return this;
  }

  /** Absolute path of the destination when it was opened. */
  get path(): string {
    return this.#root.path;
  }

  /** Whether its path still leads to the folder that was opened. */
  isStill(): boolean {
    return this.#root.isStill();
  }

  /** Whether its path leads nowhere any more, or to another device. */
  isGone(): boolean {
    return this.#root.isGone();
  }

  /** The absolute path of a file with that name. */
  outputOf({ folders }: Pick<Staged, "folders">, name: string): string {
    return join(this.#root.path, ...folders, name);
  }

  /**
   * Writes one file's content under a working name, reads it again and compares.
   * @param components safe folder and file names, the file's own last
   * @throws DeliveryError when the path leads through a link or a file, or the bytes read again differ
   */
  stage(content: ByteSource, components: readonly string[], options: { workingName: string; onBytes?: (bytes: number) => void }): Staged {
    const name = components[components.length - 1];
    if (!name) throw new DeliveryError("The file has no name to write it under.");
    const folder = this.#folder(components.slice(0, -1), true) as HeldFolder;
    // Their names as they are there.
    const folders = relative(this.#root.path, folder.path).split(sep).filter(Boolean);
    this.#working ??= this.#makeWorking();
    if (folder.device !== this.#working.device)
      throw new DeliveryError(`“${folder.path}” lies on another device than the destination: restore into it as a destination of its own.`);
    const working = this.#working.at(options.workingName);
    rmSync(working, { force: true });
    try {
      const written = writeAll(content, working, this.#memory, options.onBytes);
      const read = readBack(working, written);
      if (written.sha256 !== read.sha256)
        throw new DeliveryError(
          "The bytes read again from the destination differ from those written: the destination device may be failing.",
        );
      return { folders, name, working: options.workingName, size: content.size, ...read };
    } catch (error) {
      rmSync(working, { force: true });
      throw error;
    }
  }

  /** Gives staged files what they carry beside their content, as far as the destination can hold it. @returns for each what stands there */
  carry(files: readonly { readonly staged: Staged; readonly facts: FileFacts }[]): Carried[] {
    if (!this.#working) return [];
    const carrying = files.map(({ staged: { working: file }, facts }) => ({ file, facts }));
    return carry(this.#working.at("."), carrying, this.#ntfs);
  }

  /** What a file below the destination, by its absolute path, carries of what it should. */
  carriedBy(output: string, facts: FileFacts): Carried {
    const components = relative(this.#root.path, output).split(sep);
    const folder = components.includes("..") ? null : this.#folder(components.slice(0, -1), false);
    const [carried] = folder ? carriedBy(folder.at("."), [{ file: components.at(-1) as string, facts }], this.#ntfs) : [];
    return carried ?? NOTHING_CARRIED;
  }

  /** Whether a file of that name is already where it would be written. A file in place of a folder above it is reported when writing. */
  isTaken(components: readonly string[]): boolean {
    return this.#statusAt(components) !== null;
  }

  /** Bytes of the plain file that is where one would be written; null: there is none. */
  sizeOf(components: readonly string[]): number | null {
    const stats = this.#statusAt(components);
    return stats?.isFile() ? stats.size : null;
  }

  /** UTC milliseconds of the last change of what is where a file would be written; null: nothing is. */
  leftAt(components: readonly string[]): number | null {
    return this.#statusAt(components)?.mtimeMs ?? null;
  }

  #statusAt(components: readonly string[]): Stats | null {
    const folder = this.#folder(components.slice(0, -1), false);
    return folder && statusOf(folder.at(components[components.length - 1] as string));
  }

  /** Hashes a file below the destination by its absolute path; null: it is not there, or no plain file. */
  hashOf(output: string): ReadBack | null {
    const components = relative(this.#root.path, output).split(sep);
    if (components.includes("..")) return null;
    const folder = this.#folder(components.slice(0, -1), false);
    const path = folder?.at(components[components.length - 1] as string);
    return path && statusOf(path)?.isFile() ? readBack(path) : null;
  }

  /**
   * Gives a finished file its name. A link fails when the name is taken, so two writers never meet on one. A file that is replaced is
   * kept beside the new one.
   * @returns null when the name is taken and may not be replaced
   * @throws DeliveryError when another folder, or a link, stands in the destination's place
   */
  publish(staged: Staged, name: string, conflict: Taken): Published | null {
    const folder = this.#folder(staged.folders, true) as HeldFolder;
    if (!this.#root.isStill() || !folder.isStill()) throw new DeliveryError(exchanged(folder.path));
    const working = (this.#working as HeldFolder).at(staged.working);
    const leftAt = lstatSync(working).mtimeMs;
    const aside = giveName(working, folder, name, conflict);
    if (aside === undefined) return null;
    this.#unsynced.add(folder);
    return { aside, leftAt };
  }

  /** Has what got a name since the last call written to the device, names and all. */
  sync(): void {
    for (const folder of this.#unsynced) folder.sync();
    this.#unsynced.clear();
  }

  /**
   * Writes, reads again and names one file.
   * @param options.isFree whether a name may be taken that no file has, where files are numbered
   * @returns null when a file was there and `conflict` is "skip"
   */
  deliver(
    content: ByteSource,
    components: readonly string[],
    options: {
      conflict: Taken;
      facts?: FileFacts;
      isFree?: (folders: readonly string[], name: string) => boolean;
    },
  ): Delivered | null {
    if (options.conflict === "skip" && this.isTaken(components)) return null;
    const staged = this.stage(content, components, { workingName: "file" });
    try {
      const [carried] = this.carry([{ staged, facts: options.facts ?? NO_FACTS }]) as [Carried];
      for (const name of namesFor(staged.name, options.conflict)) {
        if (options.conflict === "keep-both" && options.isFree?.(staged.folders, name) === false) continue;
        if (!this.publish(staged, name, options.conflict)) continue;
        this.sync();
        const { size, sha256, fromDevice } = staged;
        return { output: this.outputOf(staged, name), size, sha256, fromDevice, carried };
      }
      throw new DeliveryError(`There are already ${MAX_NUMBER} files called “${staged.name}” at the destination.`);
    } finally {
      this.discard(staged);
    }
  }

  /** Gives a plain file below the destination another name beside its own. @returns its absolute path; null: there is none */
  moveAside(folders: readonly string[], name: string): string | null {
    const folder = this.#folder(folders, false);
    if (!folder || !statusOf(folder.at(name))?.isFile()) return null;
    if (!folder.isStill()) throw new DeliveryError(exchanged(folder.path));
    const aside = putAside(folder, name);
    rmSync(folder.at(name), { force: true });
    this.#unsynced.add(folder);
    return aside;
  }

  /** Removes a file that got no name. */
  discard({ working }: Staged): void {
    if (this.#working) rmSync(this.#working.at(working), { force: true });
  }

  /** Removes a working folder of this destination with all that is in it. */
  removeWorking(name = this.#workingName): void {
    if (name === this.#workingName) {
      this.#working?.close();
      this.#working = null;
    }
    // A link of that name is removed, and what it leads to is left alone.
    rmSync(this.#root.at(name), { recursive: true, force: true });
  }

  close(): void {
    this.removeWorking();
    this.letGo();
  }

  /** Lets go of a destination that is gone. Its working folder stays where it is: by that it is known when it comes back. */
  letGo(): void {
    this.#working?.close();
    this.#working = null;
    for (const folder of [...this.#held.values(), this.#root]) folder.close();
    this.#held.clear();
    this.#unsynced.clear();
    this.#memory.length = 0;
  }

  #makeWorking(): HeldFolder {
    // What an earlier writer of this name left is of no use any more.
    rmSync(this.#root.at(this.#workingName), { recursive: true, force: true });
    return this.#root.child(this.#workingName);
  }

  /** A folder below the destination, held; null: it is not there, and is not to be made. */
  #folder(names: readonly string[], make: boolean): HeldFolder | null {
    let folder = this.#root;
    let key = "";
    for (const name of names) {
      key += `/${name}`;
      const held = this.#held.get(key);
      if (held?.isStill()) {
        // What was used last is let go of last.
        this.#held.delete(key);
        this.#held.set(key, held);
        folder = held;
        continue;
      }
      try {
        this.#forget(key, held);
        folder = this.#child(folder, name, make);
        this.#held.set(key, folder);
      } catch (error) {
        if (error instanceof FolderInTheWayError) {
          if (make) throw new DeliveryError(error.message);
          return null;
        }
        if (!make && (error as NodeJS.ErrnoException).code === "ENOENT") return null;
        throw error;
      }
    }
    this.#holdNoMore(names.length);
    return folder;
  }

  /** A folder in another one, under the first name that no file of this restore has: on many devices names that differ in case alone are one. */
  #child(folder: HeldFolder, name: string, make: boolean): HeldFolder {
    let own = name;
    for (let number = 2; number <= MAX_NUMBER && this.#isOwn(join(folder.path, own)); number += 1) own = numberedName(name, number);
    return folder.child(own, make);
  }

  #forget(key: string, held: HeldFolder | undefined): void {
    if (!held) return;
    this.#held.delete(key);
    this.#unsynced.delete(held);
    held.close();
  }

  /** Lets go of the folders that were used longest ago; those of the present path come last. */
  #holdNoMore(depth: number): void {
    for (const [key, folder] of this.#held) {
      if (this.#held.size <= Math.max(MOST_HELD, depth)) return;
      if (this.#unsynced.has(folder)) folder.sync();
      this.#forget(key, folder);
    }
  }
}

function isRunning(pid: number): boolean {
  try {
    process.kill(pid, 0);
    return true;
  } catch (error) {
    // Another user's process may not be signalled (kill(2)).
    return (error as NodeJS.ErrnoException).code === "EPERM";
  }
}

/** Whether a destination that was written to under this mark, and was gone, is back. */
export function isBack(root: string, mark: string): boolean {
  const isFolder = (path: string) => lstatSync(path, { throwIfNoEntry: false })?.isDirectory() === true;
  return isFolder(root) && isFolder(join(root, WORKING + mark));
}

/** What the names of working folders begin with. */
const WORKING = ".restoring-";
const OF_PROCESSES = `${hostname().replace(/[^\w.-]/g, "_")}-`;
const exchanged = (path: string) =>
  `“${path}” is not the folder any more that was written to: it was exchanged, moved or removed meanwhile. See what is there, and try again.`;

/** Content of at most so many bytes is kept until it was read again: comparing it costs a fraction of a second hash. */
const MOST_KEPT = 128 << 20;

/**
 * Writes all of a content into a new file and has it written to the device.
 * @param memory a step each, used again for each file and made longer where needed
 * @returns its bytes in that memory, where they are few enough
 */
function writeAll(content: ByteSource, path: string, memory: Uint8Array[], onBytes?: (bytes: number) => void): Written {
  const file = openSync(path, constants.O_WRONLY | constants.O_CREAT | constants.O_EXCL, 0o644);
  const hash = createHash("sha256");
  const parts: Uint8Array[] | null = content.size <= MOST_KEPT ? [] : null;
  try {
    for (let at = 0; at < content.size; at += STEP) {
      const index = parts?.length ?? 0;
      memory[index] ??= new Uint8Array(STEP);
      const part = (memory[index] as Uint8Array).subarray(0, Math.min(STEP, content.size - at));
      content.read(at, part);
      hash.update(part);
      for (let done = 0; done < part.length; ) done += writeSync(file, part, done);
      parts?.push(part);
      onBytes?.(part.length);
    }
    fsyncSync(file);
  } finally {
    closeSync(file);
  }
  return { sha256: hash.digest("hex"), parts };
}

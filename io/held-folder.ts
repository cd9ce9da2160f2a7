import {
  closeSync,
  constants,
  existsSync,
  fstatSync,
  fsyncSync,
  lstatSync,
  mkdirSync,
  openSync,
  readlinkSync,
  realpathSync,
} from "node:fs";
import { join } from "node:path";

/** Where the system gives an open folder a path of its own (proc(5)): names below it are then looked up in that very folder. */
const DESCRIPTORS = existsSync("/proc/self/fd") ? "/proc/self/fd" : null;
const FLAGS = constants.O_RDONLY | constants.O_DIRECTORY | constants.O_NOFOLLOW;

/** Something stands in the way of a folder that is needed. The message says what, in plain words. */
export class FolderInTheWayError extends Error {
  override readonly name = "FolderInTheWayError";
}

/**
 * A folder that is held open: what is done below it is done in this very folder, even when its name is given to another one, or to a
 * link, meanwhile (openat(2)). Where the system has no paths for open folders, the name is used, and whether it still means the same
 * folder is looked at by `isStill`.
 */
export class HeldFolder {
  private constructor(
    /** Its absolute path when it was opened. */
    readonly path: string,
    readonly descriptor: number,
  ) {}

  /** Holds a folder that is there. Links in `path` are followed, once. @throws the system's error when it is none */
  static open(path: string): HeldFolder {
    const real = realpathSync(path);
    return new HeldFolder(real, openSync(real, FLAGS));
  }

  /** The path by which the system reaches a name in this folder. A plain name, without separators. */
  at(name: string): string {
    return join(DESCRIPTORS ? `${DESCRIPTORS}/${this.descriptor}` : this.path, name);
  }

  /** Makes (if needed) and holds a folder in this one; a link is never followed. @throws FolderInTheWayError when it is no folder */
  child(name: string, make = true): HeldFolder {
    if (make) {
      try {
        mkdirSync(this.at(name));
      } catch (error) {
        if ((error as NodeJS.ErrnoException).code !== "EEXIST") throw error;
      }
    }
    const path = join(this.path, name);
    try {
      return new HeldFolder(path, openSync(this.at(name), FLAGS));
    } catch (error) {
      const { code } = error as NodeJS.ErrnoException;
      if (code !== "ENOTDIR" && code !== "ELOOP") throw error;
      throw new FolderInTheWayError(`“${path}” is in the way: it is a link or a file, not a folder.`);
    }
  }

  /** Whether its path still leads to this very folder, and not through a link. */
  isStill(): boolean {
    const [own, there] = [fstatSync(this.descriptor), lstatSync(this.path, { throwIfNoEntry: false })];
    return there !== undefined && there.dev === own.dev && there.ino === own.ino && this.#presentPath() === this.path;
  }

  /** Its absolute path now, without links: as the system knows it of the open folder, else looked up name by name. */
  #presentPath(): string {
    return DESCRIPTORS ? readlinkSync(`${DESCRIPTORS}/${this.descriptor}`) : realpathSync(this.path);
  }

  /** Whether its path leads to nothing any more, or to another device: it was moved or removed, or its device was. */
  isGone(): boolean {
    try {
      const there = lstatSync(this.path, { throwIfNoEntry: false });
      return there === undefined || (there.isDirectory() && there.dev !== this.device);
    } catch {
      // A connection that was lost answers nothing any more.
      return true;
    }
  }

  /** The device it is on, by the system's number. */
  get device(): number {
    return fstatSync(this.descriptor).dev;
  }

  /** Has the names in it written to the device, where the system does that for folders. */
  sync(): void {
    try {
      fsyncSync(this.descriptor);
    } catch (error) {
      if (!NO_SYNC.has((error as NodeJS.ErrnoException).code ?? "")) throw error;
    }
  }

  close(): void {
    closeSync(this.descriptor);
  }
}

/** What file systems answer that cannot sync a folder (fsync(2)). */
const NO_SYNC: ReadonlySet<string> = new Set(["EINVAL", "EROFS", "ENOTSUP"]);

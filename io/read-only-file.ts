import { closeSync, constants, fstatSync, openSync, readSync, statSync } from "node:fs";
import type { ByteSource } from "../core/bytes/byte-source";
import { type Range, RangeSet } from "../core/bytes/range-set";
import { deviceSize } from "./drives";
import { DriveGoneError, NotSeenError, SourceError } from "./source-error";

/** Bytes in the smallest piece still tried alone when a larger read failed: a sector of older drives. */
const SECTOR = 512;
/** No drive has more bytes. */
const LARGEST = 2 ** 52;

const SHORTENED = (path: string) =>
  `${path} became shorter while it was read: something writes to it or puts another file in its place. Let that end, then try again.`;

/**
 * The one place where a source is opened, and only for reading: an image, or a drive by its device node. Stretches that the drive
 * refuses to read come as zeros and are remembered as unreadable.
 */
export class ReadOnlyFile implements ByteSource {
  readonly size: number;
  readonly #descriptor: number;
  readonly #unreadable = new RangeSet();
  /** The device's own number, where it is one. */
  readonly #device: number | null;

  constructor(readonly path: string) {
    this.#descriptor = openForReading(path);
    const stats = fstatSync(this.#descriptor);
    if (!stats.isFile() && !stats.isBlockDevice()) {
      closeSync(this.#descriptor);
      throw new SourceError(`${path} is no file and no drive, but a pipe, a socket or another device: it has no bytes to be read from.`);
    }
    this.#device = stats.isBlockDevice() ? stats.rdev : null;
    this.size = this.#device === null ? stats.size : (deviceSize(this.#device) ?? this.#measured());
  }

  read(at: number, into: Uint8Array): void {
    if (!this.#tryRead(at, into)) this.#readInPieces(at, into);
  }

  unreadable(at: number, length: number): Range[] {
    return this.#unreadable.within(at, at + length);
  }

  /** A file that was written to since is another one; what a drive holds may change under its name. */
  get identity(): string | undefined {
    if (this.#device !== null) return undefined;
    const { dev, ino, size, mtimeMs, ctimeMs } = fstatSync(this.#descriptor);
    return [dev, ino, size, mtimeMs, ctimeMs].join(" ");
  }

  /** What shows whether it is the file it was: size in bytes, times in UTC milliseconds (null: not kept there). */
  version(): { size: number; modified: number | null; created: number | null } {
    const { size, mtimeMs, birthtimeMs } = fstatSync(this.#descriptor);
    return { size, modified: wholeMilliseconds(mtimeMs), created: wholeMilliseconds(birthtimeMs) };
  }

  close(): void {
    closeSync(this.#descriptor);
  }

  #tryRead(at: number, into: Uint8Array): boolean {
    let done = 0;
    try {
      while (done < into.length && at >= 0) {
        const got = readSync(this.#descriptor, into, done, into.length - done, at + done);
        if (got === 0) break;
        done += got;
      }
    } catch (error) {
      const { code } = error as NodeJS.ErrnoException;
      if (this.#device !== null && (GONE.has(code ?? "") || !this.#isThere())) throw new DriveGoneError(this.path);
      if (code === "EIO") return false;
      throw error;
    }
    if (done < into.length) {
      into.fill(0, done);
      const end = Math.min(this.size, at + into.length);
      if (at >= 0 && at + done < end) {
        // The file ends sooner than it did when it was opened: somebody writes to it. That is no bad place, and must not be kept as one.
        if (this.#device === null) throw new NotSeenError(SHORTENED(this.path));
        this.#unreadable.add(at + done, end);
      }
    }
    return true;
  }

  /** A drive that was pulled out fails like one with bad sectors; but its node is gone, or another drive's. */
  #isThere(): boolean {
    return statSync(this.path, { throwIfNoEntry: false })?.rdev === this.#device;
  }

  /** The size of a device of which the system says none: where nothing can be read any more. */
  #measured(): number {
    const sector = new Uint8Array(SECTOR);
    const holds = (at: number) => {
      try {
        return readSync(this.#descriptor, sector, 0, SECTOR, at) === SECTOR;
      } catch (error) {
        // A bad sector is a part of the drive.
        return (error as NodeJS.ErrnoException).code === "EIO";
      }
    };
    if (!holds(0)) return 0;
    let [inside, outside] = [0, SECTOR];
    while (outside < LARGEST && holds(outside)) [inside, outside] = [outside, outside * 2];
    while (outside - inside > SECTOR) {
      const middle = inside + Math.floor((outside - inside) / 2 / SECTOR) * SECTOR;
      if (holds(middle)) inside = middle;
      else outside = middle;
    }
    return outside;
  }

  /** Halves a failed read until the bad sectors stand alone. */
  #readInPieces(at: number, into: Uint8Array): void {
    if (into.length <= SECTOR) {
      into.fill(0);
      this.#unreadable.add(at, at + into.length);
      return;
    }
    const half = Math.max(SECTOR, Math.floor(into.length / 2 / SECTOR) * SECTOR);
    for (const part of [into.subarray(0, half), into.subarray(half)]) {
      const partAt = at + (part.byteOffset - into.byteOffset);
      if (!this.#tryRead(partAt, part)) this.#readInPieces(partAt, part);
    }
  }
}

/**
 * Opens a file for reading without waiting (a pipe nobody writes to would never open), and without changing when it was last read where
 * the system allows that: to its owner and the administrator (open(2), O_NOATIME).
 */
function openForReading(path: string): number {
  const flags = constants.O_RDONLY | (constants.O_NONBLOCK ?? 0);
  try {
    return openSync(path, flags | (constants.O_NOATIME ?? 0));
  } catch (error) {
    const { code } = error as NodeJS.ErrnoException;
    if (code === "EPERM") return openSync(path, flags);
    throw error;
  }
}

/** A time of the file system as it is kept; null: the file system keeps none. UTC milliseconds. */
export const wholeMilliseconds = (time: number): number | null => (time > 0 ? Math.floor(time) : null);

/** No such device or address; no such device; no medium in it (errno(3)). */
const GONE: ReadonlySet<string> = new Set(["ENXIO", "ENODEV", "ENOMEDIUM"]);

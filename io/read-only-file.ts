import { closeSync, constants, fstatSync, openSync, readSync } from "node:fs";
import type { ByteSource } from "../core/bytes/byte-source";
import { type Range, RangeSet } from "../core/bytes/range-set";

/** Bytes in the smallest piece still tried alone when a larger read failed: a sector of older drives. */
const SECTOR = 512;

/**
 * The one place where a source is opened, and only for reading. Stretches that the drive refuses to read come as
 * zeros and are remembered as unreadable.
 */
export class ReadOnlyFile implements ByteSource {
  readonly size: number;
  readonly #descriptor: number;
  readonly #unreadable = new RangeSet();

  constructor(readonly path: string) {
    this.#descriptor = openSync(path, constants.O_RDONLY);
    this.size = fstatSync(this.#descriptor).size;
  }

  read(at: number, into: Uint8Array): void {
    if (!this.#tryRead(at, into)) this.#readInPieces(at, into);
  }

  unreadable(at: number, length: number): Range[] {
    return this.#unreadable.within(at, at + length);
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
      if ((error as NodeJS.ErrnoException).code === "EIO") return false;
      throw error;
    }
    into.fill(0, done);
    return true;
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

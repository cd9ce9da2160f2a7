import type { ByteSource } from "./byte-source";
import type { Range } from "./range-set";

/** Bytes of a patch. */
export const PATCH = 512;

/** A source some of whose sectors are taken from elsewhere in it, as when a journal's transactions are applied without writing. */
export class PatchedSource implements ByteSource {
  readonly size: number;

  /** @param patches from a sector's number (`PATCH` bytes each) to the byte offset where its newer bytes stand */
  constructor(
    private readonly parent: ByteSource,
    private readonly patches: ReadonlyMap<number, number>,
  ) {
    this.size = parent.size;
  }

  read(at: number, into: Uint8Array): void {
    this.parent.read(at, into);
    const end = Math.min(this.size, at + into.length);
    const sector = new Uint8Array(PATCH);
    for (let number = Math.floor(at / PATCH); number * PATCH < end; number += 1) {
      const from = this.patches.get(number);
      if (from === undefined) continue;
      this.parent.read(from, sector);
      const begin = Math.max(at, number * PATCH);
      const stop = Math.min(end, (number + 1) * PATCH);
      into.set(sector.subarray(begin - number * PATCH, stop - number * PATCH), begin - at);
    }
  }

  unreadable(at: number, length: number): Range[] {
    return this.parent.unreadable(at, length);
  }
}

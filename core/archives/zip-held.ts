import type { BlockReader } from "../bytes/block-reader";
import { END } from "../formats/zip/layout";

/** Bytes that may have slipped into an archive whose end is looked for. */
const MOST_SLIPPED = 1 << 16;
/** Bytes between the data of a member and the next header: none, or a descriptor (APPNOTE, 4.3.9). */
const LONGEST_DESCRIPTOR = 24;

/**
 * An archive that is kept as it is in a member whose checksum differs. Headers in it are its own; but where bytes were lost, what is said to be its last stretch is
 * what follows in the outer archive. It ends at its own end record (4.3.16) where there is one that as many bytes are lost before as it ends too early; else
 * its members lead from one to the next as far as they are sound, and whose the headers behind are cannot be known: they are taken for the outer archive's.
 */
export class HeldArchive {
  readonly #end: number | null;
  /** Where its next header stands; null: nothing leads there any more. */
  #next: number | null;

  /**
   * @param start where it begins @param until where it would end by its size
   * @param ends places of end records, in their order
   */
  constructor(
    reader: BlockReader,
    start: number,
    private readonly until: number,
    ends: readonly number[],
  ) {
    this.#next = start;
    const isIts = (at: number) => {
      const lost = reader.u32(at + END.directoryAt) + reader.u32(at + END.directorySize) - (at - start);
      return until - endOfRecord(reader, at) === lost;
    };
    const near = ends.filter((at) => at > start && at + END.size <= Math.min(reader.size, until + MOST_SLIPPED));
    const own = near.find(isIts);
    this.#end = own === undefined ? null : endOfRecord(reader, own);
  }

  /**
   * Says whether the next header, in their order, is its own.
   * @param soundEnd says where the data of the header's member end; null: its checksum does not agree
   */
  owns(at: number, soundEnd: () => number | null): boolean {
    if (this.#end !== null || at >= this.until) return at < (this.#end ?? 0);
    if (this.#next === null) return false;
    if (at < this.#next) return true;
    const leads = at <= this.#next + LONGEST_DESCRIPTOR;
    this.#next = leads ? soundEnd() : null;
    return leads;
  }
}

const endOfRecord = (reader: BlockReader, at: number) => at + END.size + reader.u16(at + END.commentLength);

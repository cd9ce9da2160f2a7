import { charged, type PieceRoom, type Pieces } from "./pieces";
import { likeliestSeam } from "./seam";

/** Pieces of one file, and tries for one seam. */
const MOST_PIECES = 12;
const MOST_TRIES = 2_000;
/** Parts behind the one that is broken by whose beginnings the next piece is looked for, and places that are tried. */
const PARTS_AHEAD = 24;
const MOST_SHIFTS = 12;

/** A part of a file whose place a list in the file gives: a member, an object. */
export interface ListedPart {
  /** Byte of the file at which it begins. */
  readonly at: number;
}

/** A file as far as it is laid out. */
export interface Laid {
  readonly pieces: Pieces;
  /** Whether no other place will do for any of the seams. */
  readonly isCertain: boolean;
}

/**
 * Lays a file over pieces of the disk by a list of its parts: where one of them is broken, the next piece is one in which a later part,
 * or the list, stands, and the seam is where the part comes right.
 */
export abstract class PartLayer<P extends ListedPart> {
  /**
   * @param parts in the order of the file
   * @param places disk offsets at which each of them may begin
   * @param listAt byte of the file at which the list begins
   * @param shift disk offset of the file's byte 0, were all of it laid out from the list
   */
  constructor(
    protected readonly room: PieceRoom,
    protected readonly parts: readonly P[],
    private readonly places: ReadonlyMap<P, readonly number[]>,
    protected readonly listAt: number,
    private readonly shift: number,
  ) {}

  /** Whether a part stands, all of it, where the last piece has it. */
  protected abstract stands(pieces: Pieces, index: number): boolean;
  /**
   * Whether a part that stands leaves no other place for the last seam.
   * @param before first byte behind the part before it: what stands between nothing checks
   */
  protected abstract isProof(pieces: Pieces, index: number, before: number): boolean;
  /** The first byte behind a part, as far as it is known where the last piece has it. */
  protected abstract endOf(pieces: Pieces, index: number): number;

  /** The breaks worth a try, of all there are. */
  protected likelyBreaks(_pieces: Pieces, _index: number, _shift: number, breaks: readonly number[]): readonly number[] {
    return breaks;
  }

  /** A whole piece within one part, where a check of its own finds it. */
  protected within(_pieces: Pieces, _index: number, _breaks: readonly number[], _shifts: readonly number[]): Laid | null {
    return null;
  }

  /** @returns null when a part cannot be found whole */
  layOut(first: Pieces): Laid | null {
    let laid: Laid = { pieces: first, isCertain: true };
    for (let index = 0; index < this.parts.length; index += 1) {
      if (this.room.disk.isSpent) return null;
      if (this.#isThere(laid.pieces, index)) continue;
      const next = laid.pieces.count >= MOST_PIECES ? null : this.#goOn(laid.pieces, index);
      if (!next) return null;
      laid = { pieces: next.pieces, isCertain: laid.isCertain && next.isCertain };
    }
    if (laid.pieces.lastAt - laid.pieces.from === this.shift) return laid;
    // The list itself stands elsewhere: its piece begins with it, or with what is between it and the last part.
    const [length] = this.#breaks(laid.pieces, this.#endBefore(laid.pieces, this.parts.length), this.listAt);
    return length === undefined ? null : { pieces: laid.pieces.goingOn(length, length + this.shift), isCertain: false };
  }

  #isThere(pieces: Pieces, index: number): boolean {
    return charged(this.room, () => this.stands(pieces, index));
  }

  #endBefore(pieces: Pieces, index: number): number {
    return index === 0 ? 0 : this.endOf(pieces, index - 1);
  }

  /** Bytes of the file at which a piece may end, from the first at or behind `from` to the last at or before `to`. */
  #breaks(pieces: Pieces, from: number, to: number): number[] {
    const { cluster } = this.room;
    const all: number[] = [];
    const least = Math.max(from, pieces.from + 1);
    for (let at = pieces.boundaryBefore(least - 1) + cluster; at <= to; at += cluster) all.push(at);
    return all;
  }

  /** The file with the next piece, in which a part stands that the last piece has not, or not all of. */
  #goOn(pieces: Pieces, index: number): Laid | null {
    const before = this.#endBefore(pieces, index);
    const breaks = this.#breaks(pieces, before, this.parts[index + 1]?.at ?? this.listAt);
    const shifts = this.#shiftsFrom(pieces, index);
    let tries = 0;
    for (const shift of shifts) {
      const passes: number[] = [];
      for (const length of this.likelyBreaks(pieces, index, shift, breaks)) {
        tries += 1;
        if (this.room.disk.isSpent || tries > MOST_TRIES) return null;
        const longer = this.joined(pieces, length, shift);
        if (!longer || !this.#isThere(longer, index)) continue;
        if (charged(this.room, () => this.isProof(longer, index, before))) return { pieces: longer, isCertain: true };
        passes.push(length);
      }
      const [only] = passes;
      if (only === undefined) continue;
      const length = passes.length > 1 ? likeliestSeam(pieces, shift, passes, this.parts[index + 1]?.at ?? this.listAt) : only;
      return { pieces: pieces.goingOn(length, length + shift), isCertain: false };
    }
    return this.within(pieces, index, breaks, shifts);
  }

  /** The file with its next piece, if neither that nor what ends before it is a proven file's. */
  protected joined(pieces: Pieces, length: number, shift: number): Pieces | null {
    const next = length + shift;
    const last = length - pieces.from;
    if (next < 0 || this.room.limitOf(next) <= next || pieces.holds(next, length)) return null;
    if (this.room.freeFrom(pieces.lastAt, last) < last || this.room.freeFrom(next, 1) < 1) return null;
    return pieces.goingOn(length, next);
  }

  /** Where pieces stand in which later parts do: those most of the next parts agree on first, of equal ones the nearest parts' first; and that of the list. */
  #shiftsFrom(pieces: Pieces, index: number): number[] {
    const here = pieces.lastAt - pieces.from;
    const { cluster } = this.room;
    const isAligned = (shift: number) => shift !== here && (((shift - here) % cluster) + cluster) % cluster === 0;
    const votes = new Map<number, number>();
    for (const part of this.parts.slice(index, index + PARTS_AHEAD))
      for (const at of this.places.get(part) ?? []) {
        const shift = at - part.at;
        if (isAligned(shift)) votes.set(shift, (votes.get(shift) ?? 0) + 1);
      }
    const shifts = [...votes].sort((a, b) => b[1] - a[1]).map(([shift]) => shift);
    const some = shifts.filter((shift) => shift !== this.shift).slice(0, MOST_SHIFTS);
    return isAligned(this.shift) ? [...some, this.shift] : some;
  }
}

import type { ByteSource } from "../bytes/byte-source";
import type { LayoutSource } from "../bytes/layout";
import { type Range, RangeSet, without } from "../bytes/range-set";

/** The stretches of a restored file that are not, or need not be, its own bytes. Content offsets, sorted and apart. */
export interface Gaps {
  /** The drive refused them, or their place is not known: written as zeros. */
  readonly unreadable: Range[];
  /** Their clusters belong to other files now: written as zeros, or as they stand where that was asked for. */
  readonly foreign: Range[];
}

export const NO_GAPS: Gaps = { unreadable: [], foreign: [] };

export const bytesIn = (ranges: readonly Range[]): number => ranges.reduce((sum, { start, end }) => sum + end - start, 0);
export const hasGaps = ({ unreadable, foreign }: Gaps): boolean => unreadable.length + foreign.length > 0;

/** The gaps of a content, as far as it has been read. A stretch that is both unreadable and foreign counts as unreadable. */
export function gapsOf(content: LayoutSource): Gaps {
  const unreadable = RangeSet.from(content.unreadable(0, content.size)).ranges;
  return { unreadable: [...unreadable], foreign: content.foreign().flatMap((range) => without(range, unreadable)) };
}

/** A content without the bytes of other files: they read as zeros. */
export class OwnBytes implements ByteSource {
  readonly size: number;
  readonly #foreign: RangeSet;

  constructor(private readonly content: LayoutSource) {
    this.size = content.size;
    this.#foreign = RangeSet.from(content.foreign());
  }

  read(at: number, into: Uint8Array): void {
    this.content.read(at, into);
    for (const { start, end } of this.#foreign.within(at, at + into.length)) into.fill(0, start - at, end - at);
  }

  unreadable(at: number, length: number): Range[] {
    return this.content.unreadable(at, length);
  }
}

/** The gaps in words, for a person. @param asFound the bytes of other files were written as they stand */
export function describeGaps({ unreadable, foreign }: Gaps, asFound: boolean): string {
  const words: string[] = [];
  const count = (ranges: readonly Range[]) => `${bytesIn(ranges)} ${bytesIn(ranges) === 1 ? "byte" : "bytes"}`;
  if (unreadable.length > 0) words.push(`${count(unreadable)} could not be read and are zeros`);
  if (foreign.length > 0)
    words.push(`${count(foreign)} belong to other files now and are ${asFound ? "what stands there today" : "zeros"}`);
  const ranges = [...unreadable, ...foreign].sort((a, b) => a.start - b.start);
  const shown = ranges.slice(0, MOST_SHOWN).map(({ start, end }) => `${start} to ${end - 1}`);
  const more = ranges.length > MOST_SHOWN ? ` and ${ranges.length - MOST_SHOWN} more stretches` : "";
  return `${words.join("; ")} (at ${shown.join(", ")}${more}).`;
}

const MOST_SHOWN = 4;

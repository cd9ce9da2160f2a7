import type { DiskRun } from "../bytes/layout";
import type { Extent, Format, Summary } from "../formats/format";
import { traitsOf } from "../formats/traits";

/** A file found by its content. Offsets are bytes of the disk. */
export interface Find {
  readonly format: Format;
  readonly at: number;
  /** Bytes from its first to its last; where it is damaged, as far as it could be followed. */
  readonly size: number;
  /** Where its bytes stand, in their order. */
  readonly segments: readonly DiskRun[];
  readonly extent: Extent;
  readonly summary: Summary;
  /** The find it stands in, by its offset; null: it stands by itself. */
  readonly inside: number | null;
}

/** Nothing speaks against it, and what speaks for it could not be said by other bytes. */
export const isProven = ({ extent, format }: Pick<Find, "extent" | "format">) =>
  extent.closed && extent.verdict.verdict === "sound" && !format.loose;
/** Bytes that nothing checks, up to which a find may be called whole. */
const MOST_UNFOLLOWED = 4096;
/** It is proven, and hardly a byte of it is one that nothing checks. */
export const isWhole = (find: Pick<Find, "extent" | "format">) => isProven(find) && (find.extent.unfollowed ?? 0) <= MOST_UNFOLLOWED;
/** It was followed to its own end, and nothing speaks against it. */
export const isClosed = ({ extent }: Pick<Find, "extent">) => extent.closed && extent.verdict.verdict !== "damaged";
export const isDamaged = ({ extent }: Pick<Find, "extent">) => extent.verdict.verdict === "damaged";

/** Its beginning is a mark that hardly stands in other data. (What an archive or a document of streams is may show nowhere; its mark does.) */
export function isMarked({ format }: Pick<Find, "format">): boolean {
  const { family, needsEnd, tooGeneral } = traitsOf(format);
  return !needsEnd && (!tooGeneral || family === "zip" || family === "compound");
}

import { type ByteSource, readBytes, WindowSource } from "../bytes/byte-source";
import { type Extent, type Format, HEAD_BYTES } from "../formats/format";
import { resolved, runFollow, runSummary } from "../formats/registry";
import { traitsOf } from "../formats/traits";
import type { Find } from "./find";
import { SECTOR } from "./mark-search";
import type { Candidate } from "./signature-index";
import { textFormats } from "./text-candidates";

/** The bytes a file can stand in: from its first on, to the end of the stretch that is swept. */
export interface Room {
  readonly disk: ByteSource;
  limitOf(at: number): number;
}

/** Bytes a damaged file must have been followed for to be reported at all. */
const LEAST_DAMAGED = 256;
/** Bytes a damaged file of a kind that needs its end was followed for, when its beginning says how long it is. */
const LEAST_EXPECTED = 2048;
/** A file shorter than this is none. */
const LEAST = 16;

/** Bytes of a file without a recorded end, and was followed to the end of all there is. */
const MOST_OPEN = 1 << 24;

/** A file whose end nothing records is given a bounded length; text ends where the text does. */
function bounded(format: Format, extent: Extent, room: number): Extent {
  const open = !extent.closed && extent.verdict.verdict === "cannot-tell" && extent.size >= room && room > MOST_OPEN;
  return open && !textFormats.includes(format) ? { ...extent, size: MOST_OPEN } : extent;
}

/** Bytes of zeros at the end of what was followed that show a file was cut before them: a sector, which nothing was written to. */
const MANY_ZEROS = 512;
const STEP = 1 << 16;

/**
 * Zeros may be followed like data, far beyond a file that was cut: what breaks off in the midst of them broke off where they begin.
 * The sector in which they begin is left to the file.
 */
function beforeZeros(format: Format, window: ByteSource, extent: Extent | null): Extent | null {
  if (extent?.verdict.verdict !== "damaged") return extent;
  const end = Math.min(window.size, Math.max(extent.size, extent.verdict.at));
  const data = Math.ceil(dataBefore(window, end) / SECTOR) * SECTOR;
  if (end - data < MANY_ZEROS) return extent;
  const shorter = runFollow(format, new WindowSource(window, 0, data));
  return shorter?.verdict.verdict === "damaged" ? shorter : extent;
}

/** The end of the last byte before `end` that is not zero. */
function dataBefore(source: ByteSource, end: number): number {
  for (let to = end; to > 0; to -= STEP) {
    const block = readBytes(source, Math.max(0, to - STEP), Math.min(STEP, to));
    const last = block.findLastIndex((byte) => byte !== 0);
    if (last >= 0) return Math.max(0, to - STEP) + last + 1;
  }
  return 0;
}

/** Whether what was followed is enough to report a file. */
function enough(format: Format, extent: Extent): boolean {
  if (extent.size < LEAST) return false;
  if (extent.verdict.verdict !== "damaged") return true;
  if (extent.closed) return extent.size >= LEAST_DAMAGED;
  // A beginning that says how long the whole is, and holds up to where it breaks, is one.
  return extent.size >= LEAST_DAMAGED && (!traitsOf(format).needsEnd || (extent.expected !== undefined && extent.size >= LEAST_EXPECTED));
}

/** Looks closer at a place where a file may begin. @param at disk byte offset; null: nothing begins there after all */
export function examine(room: Room, at: number, candidate: Pick<Candidate, "formats" | "text">): Find | null {
  const length = room.limitOf(at) - at;
  if (length < LEAST) return null;
  const window = new WindowSource(room.disk, at, length);
  const head = readBytes(window, 0, Math.min(HEAD_BYTES, length));
  const tried = new Set<Format["follow"]>();
  for (const format of candidate.formats) {
    if (!format.recognise(head) && format.id !== "iso") continue;
    // Formats of one family are followed alike: once is enough.
    if (tried.has(format.follow)) continue;
    tried.add(format.follow);
    const extent = beforeZeros(format, window, runFollow(format, window));
    if (extent && enough(format, extent)) return toFind(room.disk, at, format, bounded(format, extent, length));
  }
  if (!candidate.text) return null;
  for (const format of textFormats) {
    if (tried.has(format.follow) || (format.id === "json" && !format.recognise(head))) continue;
    const extent = runFollow(format, window);
    if (extent && enough(format, extent)) return toFind(room.disk, at, format, extent);
  }
  return null;
}

function toFind(disk: ByteSource, at: number, format: Format, extent: Extent): Find {
  const content = new WindowSource(disk, at, extent.size);
  const exact = resolved(format, content);
  return {
    format: exact,
    at,
    size: extent.size,
    segments: [{ at, length: extent.size }],
    extent,
    summary: runSummary(exact, content),
    inside: null,
  };
}

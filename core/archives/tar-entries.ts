import type { BlockReader } from "../bytes/block-reader";
import { type ByteSource, MemorySource, WindowSource } from "../bytes/byte-source";
import { marksOfMode } from "../bytes/file-marks";
import { type Layout, LayoutSource, layoutOf } from "../bytes/layout";
import type { RangeSet } from "../bytes/range-set";
import { tarNumber, tarText } from "../formats/archives";
import { type ArchiveEntry, ownPath } from "./archive";
import type { TarHeader } from "./tar-headers";
import { type SparseMap, sparseLayout } from "./tar-sparse";

const RECORD = 512;

/** Finds the entries that stand before a further name of one of them. */
export interface EarlierEntries {
  /** Goes through what stands before a place; yields after each stretch of work. */
  advance(before: number): Generator<void, void, void>;
  /** The last entry of a path in what was gone through; null: there is none. */
  find(path: string): ArchiveEntry | null;
}

/** A header that names a file or folder, with what was said of it before. */
export interface At {
  readonly source: ByteSource;
  readonly reader: BlockReader;
  readonly found: TarHeader;
  readonly path: string;
  readonly name: string;
  readonly size: number;
  readonly modified: number | null;
  readonly link: string | null;
  /** The last entry of a path that stands before this one. */
  readonly earlier: (path: string) => ArchiveEntry | null;
  /** Where bytes of it are gone; null: they are all there. */
  readonly seam: number | null;
  readonly doubts: RangeSet;
  /** Of a file that is kept without its holes: where they are; null: that list is damaged. */
  readonly holes: SparseMap | null | undefined;
  /** Where in its file it goes on, which began in another part of the archive. */
  readonly rest: { readonly offset: number } | null;
}

const BREAKS_OFF = "The archive breaks off in this file.";
const GONE = "The archive is damaged within this file: the rest of it is gone.";
const SHORT = "The list of its holes speaks of more bytes than are kept of it: the rest of it is missing.";
const SLIPPED = "The next file does not stand where this one ends: bytes slipped in or are missing, here or behind it.";
const BEGAN_ELSEWHERE = "It began in an earlier part of this archive: what stands there of it is missing here.";
const COMPLETED = "Bytes of its header could not be known and were taken from the one before: its name and date may be wrong.";
const IN_DOUBT = "What was compressed with it is damaged, and no checksum of its own says whether this file is.";

/** An ordinary file; the older form of it; one that was to lie in one piece. */
export const isFile = (type: string) => type === "0" || type === "\0" || type === "7";

/** An entry that seems to be sound, but is not as far from the next header as it should be. */
export const doubted = (entry: ArchiveEntry): ArchiveEntry =>
  entry.standing === "sound" && entry.type === "file" && entry.size > 0
    ? { ...entry, standing: "damaged", note: [entry.note, SLIPPED].filter(Boolean).join(" ") }
    : entry;

const EMPTY = () => new MemorySource(new Uint8Array());

const NO_MAP = "It is kept without its holes, and the list of these is damaged: what stands where in it cannot be known.";

/** What a header and what was said before it make of a file or folder. @returns null: it is of a kind that is no file */
export function toEntry({
  source,
  reader,
  found,
  path,
  name,
  size,
  modified,
  link,
  earlier,
  seam,
  doubts,
  holes,
  rest,
}: At): ArchiveEntry | null {
  const shared = { path, modified, encrypted: false, localTime: false, marks: 0, note: null, stored: null };
  const notFollowed = (type: "link" | "file", note: string): ArchiveEntry => ({
    ...shared,
    type,
    size: type === "link" ? 0 : size,
    standing: "not-followed",
    present: 0,
    note,
    open: EMPTY,
  });
  const folder = found.type === "5" || found.type === "D" || (name.endsWith("/") && isFile(found.type));
  if (folder) return { ...shared, type: "folder", size: 0, standing: "sound", present: 0, open: EMPTY };
  if (found.type === "1") {
    // A further name of a file that stands before it in the archive.
    const target = ownPath(link ?? linkOf(reader, found.dataAt - RECORD));
    const original = target === null ? null : earlier(target);
    if (original) return { ...original, path };
    return notFollowed("link", `A further name of “${target ?? "?"}”, which is not in what can be read.`);
  }
  if (found.type === "2") {
    const target = link ?? linkOf(reader, found.dataAt - RECORD);
    return notFollowed("link", `A link to “${target}”: shown, never followed.`);
  }
  if (found.type !== "S" && found.type !== "M" && !isFile(found.type)) return null;
  if (rest) return restEntry(shared, { source, reader, found, size, seam, doubts }, rest.offset);
  if (holes === null) return notFollowed("file", NO_MAP);
  if (holes) return sparseEntry(shared, { source, reader, found, size, seam, doubts }, holes);
  const present = Math.max(0, Math.min(size, (seam ?? reader.size) - found.dataAt));
  const whole = present === size;
  const [from, until] = [found.dataAt, found.dataAt + present];
  const inDoubt = doubts.within(from, until).length > 0;
  const why = !whole ? (seam === null ? BREAKS_OFF : GONE) : inDoubt ? IN_DOUBT : null;
  return {
    path,
    modified,
    encrypted: false,
    localTime: false,
    marks: marksOfMode(found.mode),
    note: found.completed ? [COMPLETED, why].filter(Boolean).join(" ") : why,
    stored: { at: from, length: size, coding: null },
    type: "file",
    size,
    standing: !whole ? "broken-off" : inDoubt ? "damaged" : "sound",
    present,
    open: () => new WindowSource(source, from, size),
  };
}

type Stretch = Pick<At, "source" | "reader" | "found" | "size" | "seam" | "doubts">;
type Shared = Pick<ArchiveEntry, "path" | "modified" | "encrypted" | "localTime">;

/** A file whose bytes stand in the archive in several pieces. @param layout of it over the archive @param at where the first of its bytes stand @param end where they end */
function inPieces(
  shared: Shared,
  { source, found, doubts }: Stretch,
  layout: Layout,
  at: number,
  end: number,
  whyNot: string,
): ArchiveEntry {
  const missing = layout.segments.findIndex(({ kind }) => kind === "lost");
  const present = missing < 0 ? layout.size : layout.segments.slice(0, missing).reduce((sum, { length }) => sum + length, 0);
  const inDoubt = doubts.within(found.dataAt, Math.max(found.dataAt, end)).length > 0;
  const notes = [...(found.completed ? [COMPLETED] : []), ...(missing >= 0 ? [whyNot] : inDoubt ? [IN_DOUBT] : [])];
  return {
    ...shared,
    marks: marksOfMode(found.mode),
    type: "file",
    size: layout.size,
    standing: missing >= 0 ? "broken-off" : inDoubt ? "damaged" : "sound",
    present,
    note: notes.join(" ") || null,
    stored: { at, length: Math.max(0, end - at), coding: null },
    layout,
    open: () => new LayoutSource(source, layout),
  };
}

/** A file that is kept without its holes. @param stretch what is kept of it */
function sparseEntry(shared: Shared, stretch: Stretch, holes: SparseMap): ArchiveEntry {
  const { reader, found, size, seam } = stretch;
  const at = found.dataAt + holes.before;
  const whole = found.dataAt + size;
  const end = Math.min(whole, seam ?? reader.size);
  const whyNot = end === whole ? SHORT : seam === null ? BREAKS_OFF : GONE;
  return inPieces(shared, stretch, sparseLayout(holes, at, end), at, end, whyNot);
}

/** The rest of a file that began in an earlier part of the archive. @param offset where in the file it goes on */
function restEntry(shared: Shared, stretch: Stretch, offset: number): ArchiveEntry {
  const { reader, found, size, seam } = stretch;
  const end = Math.min(found.dataAt + size, seam ?? reader.size);
  const there = Math.max(0, end - found.dataAt);
  const layout = layoutOf(
    [
      { kind: "lost", length: offset },
      { kind: "disk", at: found.dataAt, length: there },
      { kind: "lost", length: size - there },
    ],
    offset + size,
  );
  return { ...inPieces(shared, stretch, layout, found.dataAt, end, BEGAN_ELSEWHERE), restFrom: offset };
}

/** Where in its file an entry goes on ("GNU tar, Basic Tar Format", `oldgnu_header`). */
const OFFSET = { at: 369, length: 12 } as const;
export function restOffset(reader: BlockReader, header: number): number {
  const offset = tarNumber(reader.bytes(header, RECORD), OFFSET.at, OFFSET.length);
  return Number.isSafeInteger(offset) && offset >= 0 ? offset : 0;
}

const LINK = { at: 157, length: 100 } as const;
const linkOf = (reader: BlockReader, header: number) => tarText(reader.bytes(header, RECORD), LINK.at, LINK.length);

import type { ArchiveEntry, ArchiveReading } from "../archives/archive";
import { diskRuns, type Layout, layoutOf, type Segment, sliceLayout } from "../bytes/layout";
import type { Range } from "../bytes/range-set";
import { absent, type Content, type FileRecord, likeliest, NO_CONTENT, placed } from "../filesystems/file-record";
import type { Part } from "./archive-parts";
import { shifted } from "./over-files";

/** Pieces in which an archive that is compressed as a whole may lie on its drive, for its files to be taken out by themselves. */
const MOST_PIECES = 1024;

/**
 * The bytes of an archive's parts, one behind the other, where they stand in their tree: on its disk, or, in a folder, in the files of the parts
 * one behind the other. Parts that are missing are lost. Null: a part does not stand there as it is.
 */
export function runsOf(parts: readonly Part[]): Layout | null {
  const segments: Segment[] = [];
  let begin = 0;
  for (const { file, size } of parts) {
    const layout = file && likeliest(file)?.layout;
    if (file && !layout) return null;
    if (layout?.segments.some(({ kind }) => kind !== "disk")) return null;
    if (!file || !layout) segments.push({ kind: "lost", length: size });
    else segments.push(...(file.file ? shifted(layout.segments, begin) : layout.segments));
    begin += size;
  }
  return { size: begin, segments };
}

/** Where an entry of an archive stands among the archive's own bytes, as far as it is there; null: not by itself. */
export function segmentsOf(
  { stored, size, present, layout }: ArchiveEntry,
  around: Layout | null,
  packed: ArchiveReading["packed"] | null,
): Segment[] | null {
  if (!stored || !around || (present === 0 && size > 0 && !layout)) return null;
  if (size === 0) return [];
  if (layout) return piecesOf(layout, around, packed);
  const { at, coding } = stored;
  if (packed !== null) {
    // Each of its files would have to name all of its pieces.
    if (present !== size || around.segments.length > MOST_PIECES) return null;
    // What was begun anew by what was found in it is not got again by unpacking alone.
    return packed === "plain" && coding === null ? [{ kind: "packed", at, length: size, from: diskRuns(around) }] : null;
  }
  const lost: Segment[] = present < size ? [{ kind: "lost", length: size - present }] : [];
  // The archive may break off in it.
  const length = Math.min(coding === null ? present : stored.length, around.size - at);
  const held = sliceLayout(around, at, length);
  if (!held || coding === null) return held && [...held, ...lost];
  // Nothing is unpacked behind bytes that are missing.
  const gap = held.findIndex(({ kind }) => kind !== "disk");
  const there = gap < 0 ? held : held.slice(0, gap);
  return [{ kind: "coded", coding, length: present, from: diskRuns({ size: length, segments: there }) }, ...lost];
}

/** Where the bytes of a file stand that its archive keeps in several pieces. @param own where, among the archive's own bytes */
function piecesOf(own: Layout, around: Layout, packed: ArchiveReading["packed"] | null): Segment[] | null {
  const isWhole = own.segments.every(({ kind }) => kind !== "lost");
  if (packed !== null && (packed !== "plain" || !isWhole || around.segments.length * own.segments.length > MOST_PIECES)) return null;
  const from = packed === null ? [] : diskRuns(around);
  const segments: Segment[] = [];
  for (const each of own.segments) {
    if (each.kind !== "disk") segments.push(each);
    else if (packed !== null) segments.push({ kind: "packed", at: each.at, length: each.length, from });
    else {
      const held = sliceLayout(around, each.at, each.length);
      if (!held) return null;
      segments.push(...held);
    }
  }
  return segments;
}

/** A path as the client had it: a first folder of one letter is a drive. */
const clientPath = (path: string): string => `/${path.replace(/^([A-Za-z])\//, (_, letter: string) => `${letter.toUpperCase()}:/`)}`;

/** What is known of the archives a file stands in. */
interface ArchivesOf {
  /** Whether parts of them are missing. */
  readonly hasGaps: boolean;
  /** Names of archives, missing or damaged, in which more of it may have stood. */
  readonly mayLack: readonly string[];
}

export function recordOf(path: string, entries: readonly ArchiveEntry[], { hasGaps, mayLack }: ArchivesOf = NOTHING_MISSING): FileRecord {
  const own = clientPath(path);
  const name = own.slice(own.lastIndexOf("/") + 1);
  const [first] = entries;
  const size = entries.reduce((sum, entry) => sum + entry.size, 0);
  return {
    reference: `archive entry ${path}`,
    state: "live",
    type: first?.type === "folder" ? "folder" : "file",
    path: own,
    name,
    rawName: new TextEncoder().encode(name),
    size,
    created: null,
    modified: first?.modified ?? null,
    changed: null,
    ...(first?.localTime ? { localTimes: true } : {}),
    content: contentOf(entries, size, hasGaps, mayLack.length > 0),
    // Its bytes are those of the opened entry, not of the tree's disk.
    file: path,
    marks: first?.marks ?? 0,
    system: false,
    streams: [],
    links: 1,
    notes: [
      ...entries.flatMap(({ note }) => (note === null ? [] : [note])),
      ...(mayLack.length > 0
        ? [`It may not be all: more of it may have stood in ${mayLack.map((each) => `“${each}”`).join(", ")}, missing or damaged.`]
        : []),
    ],
  };
}

const NOTHING_MISSING: ArchivesOf = { hasGaps: false, mayLack: [] };

/** What is known to be missing within the content of an entry. Byte ranges of it. */
function missingOf(entry: ArchiveEntry, hasGaps: boolean): readonly Range[] {
  const { standing, size, present } = entry;
  const mayMiss = standing === "damaged" || standing === "broken-off" || (hasGaps && standing === "not-checked");
  return mayMiss && present > 0 ? entry.open().unreadable(0, size) : [];
}

/** The content of an entry as it stands in what `open` gives. @param begin its first byte there @param missing byte ranges of the entry */
function segmentsOver(begin: number, { size, present, layout }: ArchiveEntry, missing: readonly Range[]): Segment[] {
  if (layout) return piecesOver(begin, layout);
  const segments: Segment[] = [];
  let at = 0;
  for (const { start, end } of [...missing, { start: present, end: size }]) {
    const from = Math.max(start, at);
    if (from > at) segments.push({ kind: "disk", at: begin + at, length: Math.min(from, present) - at });
    if (end > from) segments.push({ kind: "lost", length: end - from });
    at = Math.max(at, end);
  }
  return segments;
}

/** The same of an entry that stands in its archive in several pieces. */
function piecesOver(begin: number, { segments }: Layout): Segment[] {
  let at = begin;
  return segments.map(({ kind, length }): Segment => {
    const place = at;
    at += length;
    return kind === "lost" ? { kind, length } : { kind: "disk", at: place, length };
  });
}

/** @param isDoubtful whether more may belong to it than there is */
function contentOf(entries: readonly ArchiveEntry[], size: number, hasGaps: boolean, isDoubtful: boolean): Content {
  const worst = (standing: ArchiveEntry["standing"]) => entries.some((entry) => entry.standing === standing);
  if (entries[0]?.type === "folder") return NO_CONTENT;
  if (worst("encrypted")) return absent("encrypted", "");
  if (worst("not-followed")) return absent("not-followed", "");
  let at = 0;
  let present = 0;
  const segments = entries.flatMap((entry): Segment[] => {
    const own = segmentsOver(at, entry, missingOf(entry, hasGaps));
    at += entry.size;
    for (const { kind, length } of own) if (kind === "disk") present += length;
    return own;
  });
  const layout = layoutOf(segments, size);
  const evidence = {
    usedByOthers: 0,
    takenLater: 0,
    lost: size - present,
    ...(worst("damaged") || isDoubtful ? { inDoubt: present } : {}),
  };
  return placed(layout, evidence, !worst("not-checked"));
}

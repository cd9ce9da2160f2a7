import { BlockReader } from "../bytes/block-reader";
import { type ByteSource, MemorySource, WindowSource } from "../bytes/byte-source";
import { marksOfMode } from "../bytes/file-marks";
import { type Layout, LayoutSource, layoutOf } from "../bytes/layout";
import { RangeSet } from "../bytes/range-set";
import { tarNumber } from "../formats/archives";
import { type ArchiveEntry, type ArchiveReading, ownPath } from "./archive";
import { type TarHeader, TarHeaders } from "./tar-headers";
import { type PaxSparse, readGnuMap, readPaxMap, type SparseMap, sparseLayout, takeSparse } from "./tar-sparse";

const RECORD = 512;
const MOST_ENTRIES = 4_000_000;
/** Bytes of a name, a list of names or extended headers that are read. */
const MOST_NAME = 1 << 20;
const MOST_LISTING = 1 << 24;

const text = (bytes: Uint8Array) => new TextDecoder().decode(bytes);

/** Attributes that stand before an entry and are its own. */
interface Ahead {
  path: string | null;
  link: string | null;
  size: number | null;
  modified: number | null;
  sparse: PaxSparse | null;
  /** The file that the next entry is the rest of (GNU tar manual, "Multi-volume archives"). */
  rest: { name: string; offset: number } | null;
}
const NOTHING: Ahead = { path: null, link: null, size: null, modified: null, sparse: null, rest: null };

/**
 * Reads a TAR archive (POSIX.1-2017, pax; long names and folder lists after the GNU manual, "Basic Tar Format" and "Dumpdir"). Where a header
 * is damaged the next right one is looked for.
 * @param thorough whether members that others claim are looked for in all data, too
 */
export function readTarArchive(source: ByteSource, thorough = false): ArchiveReading {
  const reader = new BlockReader(source);
  const entries: ArchiveEntry[] = [];
  const listings = new Map<string, ReadonlySet<string>>();
  const byPath = new Map<string, ArchiveEntry>();
  let ahead: Ahead = { ...NOTHING };
  let general: Partial<Ahead> = {};
  let damaged = 0;
  /** Where something stands that is no header. */
  let gap: number | null = null;
  const seams = [...(source.seams ?? [])];
  const doubts = RangeSet.from(source.doubts ?? []);
  const headers = new TarHeaders(source, thorough);
  for (let at = 0; at + RECORD <= reader.size && entries.length < MOST_ENTRIES; ) {
    const found = headers.at(at);
    if (!found) {
      // Zeros fill the end; anything else was a header, or data behind one that is gone.
      if (gap === null && reader.bytes(at, RECORD).some((byte) => byte !== 0)) damaged += 1;
      // What was said of the file that stood here is not said of the next one.
      ahead = { ...NOTHING };
      gap ??= at;
      at = headers.behind(at);
      continue;
    }
    if (gap !== null && entries.length > 0 && damaged === 0) damaged += 1;
    const last = entries.at(-1);
    // Members are whole records apart: bytes slipped in, or are missing, in the last one or behind it.
    if (gap !== null && (at - gap) % RECORD !== 0 && last) entries[entries.length - 1] = doubted(last);
    gap = null;
    const data = (most: number) => reader.bytes(found.dataAt, Math.max(0, Math.min(found.size, most, reader.size - found.dataAt))).slice();
    const size = ahead.size ?? found.size;
    const whole = found.dataAt + Math.ceil(size / RECORD) * RECORD;
    // Behind a seam other files stand.
    while (seams[0] !== undefined && seams[0] <= at) seams.shift();
    const hidden = headers.hiddenIn(found, whole);
    const seam = seams[0] !== undefined && seams[0] < (hidden ?? whole) ? seams[0] : hidden;
    if (hidden !== null) damaged += 1;
    const next = seam ?? whole;
    if (hidden !== null && isAhead(found.type)) ahead = { ...NOTHING };
    else if (found.type === "L") ahead.path = text(data(MOST_NAME)).replace(/\0.*$/s, "");
    else if (found.type === "K") ahead.link = text(data(MOST_NAME)).replace(/\0.*$/s, "");
    else if (found.type === "x") ahead = { ...ahead, ...paxOf(data(MOST_NAME)) };
    else if (found.type === "g") general = { ...general, ...paxOf(data(MOST_NAME)) };
    else {
      const rest =
        found.type === "M" ? { name: found.name, offset: restOffset(reader, at) } : isFile(found.type) ? (general.rest ?? null) : null;
      const name = rest?.name || (ahead.sparse?.name ?? ahead.path ?? general.path ?? found.name);
      const path = ownPath(name);
      const modified = ahead.modified ?? general.modified ?? (Number.isFinite(found.modified) ? found.modified : null);
      if (path !== null) {
        if (found.type === "D") listings.set(path, namesIn(data(MOST_LISTING)));
        const sparse = isFile(found.type) && ahead.sparse ? readPaxMap(ahead.sparse, reader, found.dataAt, size) : undefined;
        const holes = found.type === "S" ? readGnuMap(reader, at) : sparse;
        const entry = entryOf({ source, reader, found, path, size, modified, link: ahead.link, name, byPath, seam, doubts, holes, rest });
        if (rest) general = { ...general, rest: null };
        if (entry) {
          entries.push(hidden === null ? entry : doubted(entry));
          byPath.set(path, entry);
        }
      }
      ahead = { ...NOTHING };
    }
    at = seam === null ? Math.max(at + RECORD, next) : next;
  }
  const notes =
    damaged > 0
      ? [
          `The header of a file is damaged at ${damaged === 1 ? "one place" : `${damaged} places`} of this archive: what stood there is not listed.`,
        ]
      : [];
  return { entries, listings, notes };
}

interface At {
  readonly source: ByteSource;
  readonly reader: BlockReader;
  readonly found: TarHeader;
  readonly path: string;
  readonly name: string;
  readonly size: number;
  readonly modified: number | null;
  readonly link: string | null;
  readonly byPath: ReadonlyMap<string, ArchiveEntry>;
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
const isFile = (type: string) => type === "0" || type === "\0" || type === "7";

/** An entry that seems to be sound, but is not as far from the next header as it should be. */
const doubted = (entry: ArchiveEntry): ArchiveEntry =>
  entry.standing === "sound" && entry.type === "file" && entry.size > 0
    ? { ...entry, standing: "damaged", note: [entry.note, SLIPPED].filter(Boolean).join(" ") }
    : entry;

/** What is said of the next file. */
const isAhead = (type: string) => "LKxg".includes(type);
const EMPTY = () => new MemorySource(new Uint8Array());

const NO_MAP = "It is kept without its holes, and the list of these is damaged: what stands where in it cannot be known.";

function entryOf({ source, reader, found, path, name, size, modified, link, byPath, seam, doubts, holes, rest }: At): ArchiveEntry | null {
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
    const original = target === null ? undefined : byPath.get(target);
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
  const completed = found.completed ? [COMPLETED] : [];
  const inDoubt = doubts.within(from, until).length > 0;
  return {
    ...shared,
    marks: marksOfMode(found.mode),
    type: "file",
    size,
    standing: !whole ? "broken-off" : inDoubt ? "damaged" : "sound",
    present,
    note: [...completed, ...(whole ? (inDoubt ? [IN_DOUBT] : []) : [seam === null ? BREAKS_OFF : GONE])].join(" ") || null,
    stored: { at: found.dataAt, length: size, coding: null },
    open: () => new WindowSource(source, found.dataAt, size),
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
  return { ...inPieces(shared, stretch, layout, found.dataAt, end, BEGAN_ELSEWHERE), isRest: true };
}

/** Where in its file an entry goes on ("GNU tar, Basic Tar Format", `oldgnu_header`). */
const OFFSET = { at: 369, length: 12 } as const;
function restOffset(reader: BlockReader, header: number): number {
  const offset = tarNumber(reader.bytes(header, RECORD), OFFSET.at, OFFSET.length);
  return Number.isSafeInteger(offset) && offset >= 0 ? offset : 0;
}

const LINK = { at: 157, length: 100 } as const;
const linkOf = (reader: BlockReader, header: number) => text(reader.bytes(header + LINK.at, LINK.length)).replace(/\0.*$/s, "");

/** The records of an extended header ("pax Extended Header"): length, key, value. */
function paxOf(bytes: Uint8Array): Partial<Ahead> {
  const found: Partial<Ahead> = {};
  for (let at = 0; at < bytes.length; ) {
    const space = bytes.indexOf(0x20, at);
    const length = Number(text(bytes.subarray(at, space < 0 ? at : space)));
    if (space < 0 || !Number.isInteger(length) || length <= space - at || at + length > bytes.length) break;
    const record = text(bytes.subarray(space + 1, at + length - 1));
    const equals = record.indexOf("=");
    const [key, value] = [record.slice(0, equals), record.slice(equals + 1)];
    const number = Number(value);
    if (key.startsWith("GNU.sparse.")) {
      found.sparse ??= { numbers: [] };
      takeSparse(found.sparse, key, value);
    } else if (key === "GNU.volume.filename") found.rest = { offset: 0, ...found.rest, name: value };
    else if (key === "GNU.volume.offset" && Number.isSafeInteger(number) && number >= 0)
      found.rest = { name: "", ...found.rest, offset: number };
    else if (key === "path") found.path = value;
    else if (key === "linkpath") found.link = value;
    else if (key === "size" && Number.isSafeInteger(number) && number >= 0) found.size = number;
    else if (key === "mtime" && Number.isFinite(number)) found.modified = Math.floor(number * 1000);
    at += length;
  }
  return found;
}

/** The names a folder had: each with a letter that says whether it is in the archive, ended by a zero. */
function namesIn(bytes: Uint8Array): Set<string> {
  return new Set(
    text(bytes)
      .split("\0")
      .filter((name) => /^[YND]./s.test(name))
      .map((name) => name.slice(1)),
  );
}

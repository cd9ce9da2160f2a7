import type { ByteSource } from "../../bytes/byte-source";
import { Cursor } from "../../bytes/cursor";
import { FILE_MARK } from "../../bytes/file-marks";
import { EMPTY_LAYOUT, type Layout, layoutOf, type Segment } from "../../bytes/layout";
import { pathComponent } from "../../bytes/text";
import { absent, type Content, type FileRecord, type Placed } from "../file-record";
import { datesOf, decodeText, type Stream } from "./block";
import type { Context, FileEntry, FolderEntry, TapeFolder, TapeSet } from "./entries";
import { FILE, FILE_BITS, idOf, SPARSE, STREAM_BITS, STRINGS } from "./layout";

const [STAN, SPAR, CSUM, ADAT, NTED] = ["STAN", "SPAR", "CSUM", "ADAT", "NTED"].map(idOf) as [number, number, number, number, number];

/** Bytes of sparse data before which its place in the content stands. */
const PLACE_BYTES = 8;
/** A named stream's name that is read, bytes. */
const MOST_STREAM_NAME = 1024;

/** How the files of a medium are judged. */
export interface Judging {
  readonly source: ByteSource;
  /** Whether contents and their checksums are looked at now; otherwise that is left to whoever opens them. */
  readonly look: boolean;
}

/** Reads when a set was written: UTC milliseconds where the set records how far its clock was from UTC, else its local time as if it were UTC. */
export const asOfSet = ({ date, timeZone }: TapeSet): number | null => (date === null ? null : date - (timeZone ?? 0) * 15 * 60_000);

export const setKey = (set: TapeSet | null): string => (set === null ? "?" : String(set.number ?? `@${set.at}`));

/** What shows which backup a record belongs to. */
const backupOf = ({ set }: Context) => ({ set: setKey(set), asOf: set && asOfSet(set) });

/** The path as the client had it: the drive or volume first. A drive that is not known, or a folder that is lost, makes it begin with "/?". */
function pathOf({ volume }: Context, folder: TapeFolder | null, name: string | null): string {
  const device = volume && (volume.device ?? volume.name);
  const known = device !== null && folder !== null;
  const parts = [known ? device.replace(/[\\/]+$/, "") : "?", ...(folder?.parts ?? []), ...(name === null ? [] : [name])];
  return `/${parts.map((part) => pathComponent(part) || "_").join("/")}`;
}

export function toFolderRecord({ block, folder, context, damagedHeader }: FolderEntry): FileRecord {
  const path = pathOf(context, folder, null);
  const name = path.slice(path.lastIndexOf("/") + 1);
  return {
    reference: `DIRB block at ${block.at}`,
    state: "live",
    type: "folder",
    path,
    name,
    rawName: new TextEncoder().encode(name),
    size: 0,
    ...datesOf(block),
    changed: null,
    localTimes: true,
    content: { kind: "none" },
    backup: backupOf(context),
    system: false,
    streams: [],
    links: 1,
    notes: damagedHeader ? [DAMAGED_HEADER] : [],
  };
}

const DAMAGED_HEADER = "The checksum of its block in the backup is wrong: its name and dates may be wrong.";

/** A file of a medium as a record; its content is judged by what can be compared. @param before what the medium before this one has of it */
export function toFileRecord(entry: FileEntry, judging: Judging, before: FileEntry | null = null): FileRecord {
  const { block, name, folder, context, damagedHeader } = entry;
  const at = block?.at ?? entry.streams[0]?.at ?? entry.bare?.start ?? 0;
  const shown = name?.text ? pathComponent(name.text) : `Unnamed file at ${at}`;
  const path = pathOf(context, folder, shown);
  const content = contentOf(entry, judging, before);
  const notes: string[] = [];
  if (damagedHeader) notes.push(DAMAGED_HEADER);
  if (!block) notes.push("The block that names it is lost: its name, dates and folder are not known.");
  else if (!folder) notes.push("The block of its folder is lost.");
  if (entry.beforePart) notes.push("It begins before the part of the backup file that was read.");
  if (folder && context.volume === null) notes.push("The block that names its drive is lost.");
  return {
    reference: `${block ? "FILE block" : "Content"} at ${at}`,
    state: "live",
    type: "file",
    path,
    name: shown,
    ...(damagedHeader || !name ? { incompleteName: true } : {}),
    rawName: name?.raw ?? new Uint8Array(),
    size: content.size,
    created: null,
    modified: null,
    ...(block ? datesOf(block) : {}),
    changed: null,
    localTimes: true,
    content: content.content,
    backup: backupOf(context),
    marks: damagedHeader ? 0 : marksOf(attributesOf(entry)),
    system: false,
    streams: entry.streams.flatMap((stream) => (stream.id === ADAT ? namedStream(stream, judging.source) : [])),
    links: 1,
    notes: [...notes, ...content.notes],
  };
}

const attributesOf = ({ block }: FileEntry): number => (block ? FILE.read(new Cursor(block.bytes), 0).attributes : 0);

const marksOf = (attributes: number): number =>
  ((attributes & FILE_BITS.readOnly) !== 0 ? FILE_MARK.readOnly : 0) | ((attributes & FILE_BITS.hidden) !== 0 ? FILE_MARK.hidden : 0);

/** A named stream: the size of its name, the name, the data (from memory of practice, no published source). */
function namedStream(stream: Stream, source: ByteSource): FileRecord["streams"] {
  const head = new Uint8Array(Math.min(4 + MOST_STREAM_NAME, stream.length, Math.max(0, source.size - stream.dataAt)));
  source.read(stream.dataAt, head);
  if (head.length < 4) return [];
  const length = new Cursor(head).u32(0);
  if (length === 0 || length % 2 !== 0 || 4 + length > head.length) return [];
  const text = decodeText(head.subarray(4, 4 + length), STRINGS.unicode).replace(/\0+$/, "");
  const name = text.replace(/^:/, "").replace(/:\$DATA$/, "");
  const size = stream.length - 4 - length;
  return [{ name: pathComponent(name), size, layout: layoutOf([{ kind: "disk", at: stream.dataAt + 4 + length, length: size }], size) }];
}

interface Judged {
  readonly size: number;
  readonly content: Content;
  readonly notes: readonly string[];
}

function contentOf(entry: FileEntry, { source, look }: Judging, before: FileEntry | null): Judged {
  const { block, streams, bare, trouble, cut } = entry;
  const declared = block?.common.displayableSize ?? 0;
  const attributes = attributesOf(entry);
  const data = streams.find(({ id }) => id === STAN);
  const closed = closedBy(entry, data);
  if (closed) return { size: declared || (data?.length ?? 0), content: closed, notes: [] };
  const notes: string[] = [];
  const sparse = streams.filter(({ id }) => id === SPAR);
  const stands = bare
    ? { size: bare.end - bare.start, segments: [{ kind: "disk" as const, at: bare.start, length: bare.end - bare.start }] }
    : sparse.length > 0 || (data && data.systemAttributes & SPARSE && data.length === 0)
      ? sparseContent(sparse, declared, source)
      : data
        ? { size: data.length, segments: [{ kind: "disk" as const, at: data.dataAt, length: data.length }] }
        : null;
  if (!stands) {
    if (attributes & FILE_BITS.inUse)
      return { size: declared, content: absent("named-only", "It was in use when the backup was made: its content was not saved."), notes };
    if (declared === 0 && block && !trouble)
      return { size: 0, content: { kind: "placed", likeliest: sound(EMPTY_LAYOUT), others: [] }, notes };
    return { size: declared, content: absent("record-damaged", "Where its content stood in the backup is damaged."), notes };
  }
  if (attributes & FILE_BITS.changedWhileRead)
    notes.push("The program that made the backup marked it as changed while it was read: its bytes may be of several moments.");
  let { segments } = stands;
  let size = stands.size;
  if (entry.continues && declared > size) {
    const missing = declared - size;
    const first = before?.streams.find(({ id }) => id === STAN);
    const there = first && before ? before.dataEnd - first.dataAt : 0;
    if (first && there === missing) segments = [{ kind: "disk", at: first.dataAt, length: missing }, ...segments];
    else {
      segments = [{ kind: "lost", length: missing }, ...segments];
      notes.push(`Its first ${missing} bytes are on the medium before this one.`);
    }
    size = declared;
  }
  const slip = trouble?.slip ?? 0;
  if (slip > 0 && slip <= MOST_SLIPPED && data && !bare && sparse.length === 0) {
    // All that stands there, with what was slipped in.
    size += slip;
    segments = [{ kind: "disk", at: data.dataAt, length: size }];
  }
  const layout = layoutOf(withoutEnd(segments, entry.dataEnd), size);
  const lost = layout.segments.reduce((sum, segment) => sum + (segment.kind === "lost" ? segment.length : 0), 0);
  if (cut && lost > 0) notes.push("The backup file breaks off in it.");
  if (!block && bare) {
    notes.push("A part of a file whose beginning is lost: how much is missing is not known.");
    return { size, content: placedAs({ ...sound(layout), sure: false, evidence: { ...NOTHING_GONE, lost, inDoubt: size } }), notes };
  }
  return { size, content: placedAs(judged({ entry, layout, lost, notes, data, source, look, bare: bare !== null })), notes };
}

const NOTHING_GONE = { usedByOthers: 0, takenLater: 0, lost: 0 };
const sound = (layout: Layout): Placed => ({ layout, evidence: NOTHING_GONE, sure: true });
const placedAs = (likeliest: Placed): Content => ({ kind: "placed", likeliest, others: [] });

/** What stands behind the end of the medium is lost. */
const withoutEnd = (segments: readonly Segment[], size: number): Segment[] =>
  segments.flatMap((segment): Segment[] => {
    if (segment.kind !== "disk" || segment.at + segment.length <= size) return [segment];
    const there = Math.max(0, size - segment.at);
    return [
      { ...segment, length: there },
      { kind: "lost", length: segment.length - there },
    ];
  });

interface Standing {
  readonly entry: FileEntry;
  readonly layout: Layout;
  readonly lost: number;
  readonly notes: string[];
  readonly data: Stream | undefined;
  readonly source: ByteSource;
  readonly look: boolean;
  readonly bare: boolean;
}

function judged({ entry, layout, lost, notes, data, source, look, bare }: Standing): Placed {
  const { trouble, streams } = entry;
  const slip = trouble?.slip ?? 0;
  const checksum = streams.find(({ id }) => id === CSUM);
  const agrees = look && checksum && data && lost === 0 ? checksumAgrees(checksum, data, source) : null;
  if (agrees) return { ...sound(layout), vouched: true };
  if (trouble && slip !== 0) {
    const words =
      slip > 0
        ? `${slip} ${slip === 1 ? "byte that is not its own was" : "bytes that are not its own were"} slipped in`
        : `${-slip} bytes are missing`;
    notes.push(`${words} somewhere in it: what stands behind is out of place.`);
    const gone = slip < 0 ? Math.min(layout.size, -slip) : 0;
    return { layout: shortened(layout, gone), evidence: { ...NOTHING_GONE, lost: lost + gone, inDoubt: layout.size }, sure: false };
  }
  if (agrees === false) {
    notes.push("The checksum that the backup keeps of its content does not agree.");
    return { layout, evidence: { ...NOTHING_GONE, lost, inDoubt: layout.size }, sure: false };
  }
  if (bare) notes.push("The header of its content is damaged: where that stands follows from its size and from what comes after it.");
  if (trouble) notes.push("What stands behind its content is damaged; the damage may reach into it.");
  const zeros = trouble ? zerosAtEnd(layout, source) : 0;
  const evidence = { ...NOTHING_GONE, lost, ...(zeros > 0 ? { inDoubt: zeros } : {}) };
  return { layout, evidence, sure: !trouble && !bare, ...(look ? { unguarded: true as const } : { unlooked: true as const }) };
}

/** A layout whose last bytes are lost. */
const shortened = (layout: Layout, gone: number): Layout =>
  gone === 0 ? layout : layoutOf([...layoutOf(layout.segments, layout.size - gone).segments, { kind: "lost", length: gone }], layout.size);

const ZEROS_LOOKED_AT = 4096;
/** Zeros before a break that are more than chance. */
const FEWEST_ZEROS = 16;

/** Zeros at the end of a content behind which the medium is damaged: as likely as not the damage itself. */
function zerosAtEnd(layout: Layout, source: ByteSource): number {
  const last = layout.segments.at(-1);
  if (last?.kind !== "disk") return 0;
  const length = Math.min(last.length, ZEROS_LOOKED_AT);
  const bytes = new Uint8Array(length);
  source.read(last.at + last.length - length, bytes);
  let zeros = 0;
  while (zeros < length && bytes[length - 1 - zeros] === 0) zeros += 1;
  return zeros >= FEWEST_ZEROS ? zeros : 0;
}

/** Content that is kept in a way that only its maker can open; null: it is not. */
function closedBy({ streams, context, block }: FileEntry, data: Stream | undefined): Content | null {
  const sealed = streams.some(({ id, mediaAttributes }) => id === NTED || (mediaAttributes & STREAM_BITS.encrypted) !== 0);
  if (sealed || (context.set?.encrypted && block)) return absent("encrypted", "It was encrypted before it was written to the backup.");
  if (data && (data.mediaAttributes & STREAM_BITS.compressed || data.compression !== 0))
    return absent("not-followed", "It was compressed by the program that made the backup, in a way that is not published.");
  return null;
}

/** Stretches of a sparse file: each begins with its place in the content; the last one may be nothing but the end (from memory of practice). */
function sparseContent(streams: readonly Stream[], declared: number, source: ByteSource): { size: number; segments: Segment[] } | null {
  const segments: Segment[] = [];
  let filled = 0;
  for (const { dataAt, length } of streams) {
    const head = new Uint8Array(PLACE_BYTES);
    if (length < PLACE_BYTES || dataAt + PLACE_BYTES > source.size) return null;
    source.read(dataAt, head);
    const place = new Cursor(head).u64(0);
    if (!Number.isSafeInteger(place) || place < filled) return null;
    segments.push({ kind: "hole", length: place - filled }, { kind: "disk", at: dataAt + PLACE_BYTES, length: length - PLACE_BYTES });
    filled = place + length - PLACE_BYTES;
  }
  const size = Math.max(declared, filled);
  if (!Number.isSafeInteger(size)) return null;
  return { size, segments: [...segments, { kind: "hole", length: size - filled }] };
}

/** Bytes slipped into a content with which it is still given as a whole. */
const MOST_SLIPPED = 1 << 16;

/** Words read at a time for a checksum: they stay in the processor's cache. */
const words = new Int32Array(1 << 16);
const bytesOfWords = new Uint8Array(words.buffer);

/** Words of a block that damage would have emptied as a whole. */
const EMPTIED = 128;

/**
 * Compares the exclusive or of a content's 32-bit words, filled up with zeros, with the checksum kept of it (from memory of practice).
 * @returns null where it proves nothing: it is not there, or the content has blocks of nothing but zeros, and words that repeat cancel one
 * another out, so that emptying them would not show
 */
function checksumAgrees(checksum: Stream, data: Stream, source: ByteSource): boolean | null {
  if (checksum.length !== 4 || checksum.dataAt + 4 > source.size) return null;
  const kept = new Uint8Array(4);
  source.read(checksum.dataAt, kept);
  let sum = 0;
  let emptied = false;
  for (let done = 0; done < data.length; done += bytesOfWords.length) {
    const length = Math.min(bytesOfWords.length, data.length - done);
    const count = Math.ceil(length / 4);
    // What fills the last word is zeros, whatever was there before.
    if (length % 4 !== 0) words[count - 1] = 0;
    source.read(data.dataAt + done, bytesOfWords.subarray(0, length));
    for (let at = 0; at < count; at += EMPTIED) {
      let [a, b, any] = [0, 0, 0];
      const end = Math.min(count, at + EMPTIED);
      const even = end - ((end - at) % 2);
      for (let i = at; i < even; i += 2) {
        const one = words[i] as number;
        const other = words[i + 1] as number;
        a ^= one;
        b ^= other;
        any |= one | other;
      }
      if (even < end) {
        a ^= words[even] as number;
        any |= words[even] as number;
      }
      sum ^= a ^ b;
      if (any === 0 && end - at === EMPTIED) emptied = true;
    }
  }
  const agrees = sum === new DataView(kept.buffer).getInt32(0, true);
  return agrees && emptied ? null : agrees;
}

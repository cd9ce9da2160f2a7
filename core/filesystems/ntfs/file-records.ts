import type { ByteSource } from "../../bytes/byte-source";
import { Cursor } from "../../bytes/cursor";
import { marksOfAttributes } from "../../bytes/file-marks";
import { type Layout, markForeign } from "../../bytes/layout";
import { absent, type ByteEvidence, type Content, type FileRecord, likeliest, NO_CONTENT, placed, unproven } from "../file-record";
import type { ClusterMeasures } from "./boot-sector";
import { ATTRIBUTE_FLAG, ATTRIBUTE_TYPE, isCloudTag, KEPT_ELSEWHERE, NAMESPACE, REPARSE_TAG, SYSTEM_RECORD } from "./layout";
import { UNKNOWN_PARENT } from "./mft-index";
import { type FileName, fileAttributes, type MftRecord, type MftReference, residentValue, standardTimes } from "./mft-record";
import { type StreamPiece, streamContent } from "./stream-layout";
import { CODED_STREAM, systemCoding, systemCompressed } from "./system-compression";

/** Names of one file beyond this are damage or an attack on memory. */
const MAX_LINKS = 1024;
const MAX_STREAMS = 4096;

/** What must be known around a record to describe it in full: of the present table, or of records left over from another one. */
export interface Surroundings {
  readonly disk: ByteSource;
  /** Disk byte offset of the volume. */
  readonly start: number;
  readonly geometry: ClusterMeasures;
  /** Disk byte offset of a record. */
  recordAt(record: MftRecord): number;
  extensionsOf(record: MftRecord): MftRecord[];
  namesOf(record: MftRecord, extensions: readonly MftRecord[]): FileName[];
  /** The path of a folder, "" for the root; begins with `UNKNOWN_PARENT` where it is not known. */
  pathOf(reference: MftReference): string;
  /** What became of the bytes of a file that is no more. */
  evidence(layout: Layout, record: MftRecord): ByteEvidence;
  /** How the record is called, for a technician who wants to look it up. */
  reference(record: MftRecord): string;
  /** Whether its files are there now, or only their records are. */
  readonly leftover: boolean;
}

/** Turns a record into file records: one for each of its names. */
export function toFileRecords(record: MftRecord, around: Surroundings): FileRecord[] {
  if (record.number === SYSTEM_RECORD.root) return [];
  const extensions = around.extensionsOf(record);
  const system = record.number < SYSTEM_RECORD.firstUser;
  const names = visibleNames(record, extensions, around);
  if (names.length === 0 && (system || record.directory)) return [];
  const content = contentOf(record, extensions, around);
  if (names.length === 0 && content.size === 0) return [];
  const times = standardTimes(record);
  const live = record.inUse && !around.leftover;
  const shared = {
    reference: around.reference(record),
    state: live ? ("live" as const) : ("deleted" as const),
    type: record.directory ? ("folder" as const) : ("file" as const),
    size: record.directory ? 0 : content.size,
    changed: times?.mftChanged ?? null,
    content: record.directory
      ? NO_CONTENT
      : live
        ? content.content
        : withEvidence(content.content, (layout) => around.evidence(layout, record)),
    streams: live
      ? content.streams
      : content.streams.map((stream) => ({
          ...stream,
          layout: stream.layout && markForeign(stream.layout, around.evidence(stream.layout, record).foreign ?? []),
        })),
    links: Math.max(1, names.length),
    marks: marksOfAttributes(fileAttributes(record)),
  };
  const leftover = around.leftover ? { leftover: true } : {};
  if (names.length === 0) {
    const name = `record-${record.number}`;
    const notes = [...record.notes, ...content.notes, "The name of this deleted file is gone; its record number stands in its place."];
    const { created = null, modified = null } = times ?? {};
    const path = `${UNKNOWN_PARENT}/${name}`;
    return [lostTrack({ ...shared, ...leftover, path, name, rawName: new Uint8Array(), created, modified, system, notes }, record)];
  }
  return names.map((name): FileRecord => {
    const parent = around.pathOf(name.parent);
    const notes = [...record.notes, ...content.notes];
    if (parent.startsWith(UNKNOWN_PARENT)) notes.push("A folder above it was reused for something else: the full path is not known.");
    // Field by field: spreading the shared ones would cost more than all the rest, and records come by the million.
    const file: FileRecord = {
      reference: shared.reference,
      state: shared.state,
      type: shared.type,
      path: `${parent}/${name.name}`,
      name: name.name,
      rawName: name.raw.slice(),
      size: shared.size,
      created: times?.created ?? name.created,
      modified: times?.modified ?? name.modified,
      changed: shared.changed,
      content: shared.content,
      system: system || parent === "/$Extend" || parent.startsWith("/$Extend/"),
      streams: shared.streams,
      links: shared.links,
      marks: shared.marks,
      notes,
    };
    const placed = parent.startsWith(UNKNOWN_PARENT) ? lostTrack(file, record) : file;
    return around.leftover ? { ...placed, leftover: true } : placed;
  });
}

/**
 * A file that was deleted before something above it was lost: since then records were used again, and files of which none is left may have had its
 * clusters. What stands in the record itself had no other owner.
 */
const lostTrack = (file: FileRecord, record: MftRecord): FileRecord =>
  record.inUse || likeliest(file)?.layout.segments.every(({ kind }) => kind === "held") ? file : unproven(file);

/** One entry for each name a user sees; the 8.3 alias only when there is no other. */
function visibleNames(record: MftRecord, extensions: readonly MftRecord[], around: Surroundings): FileName[] {
  const all = around.namesOf(record, extensions);
  // Nearly all files have one name, or one with its 8.3 alias.
  if (all.length <= 1) return all;
  const long = all.filter((name) => name.namespace !== NAMESPACE.dos);
  if (long.length === 1) return long;
  const distinct = new Map<string, FileName>();
  for (const name of long.length > 0 ? long : all) distinct.set(`${name.parent.record}/${name.name}`, name);
  const names = [...distinct.values()].slice(0, MAX_LINKS);
  // Slack may hold older names too; of a deleted file only one is its own.
  return record.inUse ? names : names.slice(0, 1);
}

/** The content of a deleted file: what became of its bytes is added. */
const withEvidence = (content: Content, evidence: (layout: Layout) => ByteEvidence): Content =>
  content.kind === "placed" ? placed(content.likeliest.layout, evidence(content.likeliest.layout)) : content;

interface Streams {
  readonly size: number;
  readonly content: Content;
  readonly streams: FileRecord["streams"];
  readonly notes: readonly string[];
}

const NO_STREAMS: FileRecord["streams"] = [];

function contentOf(record: MftRecord, extensions: readonly MftRecord[], around: Surroundings): Streams {
  const { geometry, start } = around;
  const main: StreamPiece[] = [];
  let named: Map<string, StreamPiece[]> | undefined;
  let reparse: Uint8Array | undefined;
  const take = (each: MftRecord) => {
    for (const attribute of each.attributes) {
      if (attribute.type === ATTRIBUTE_TYPE.data) {
        const piece = { record: each, attribute, recordAt: around.recordAt(each) };
        if (attribute.name === "") main.push(piece);
        else {
          named ??= new Map();
          const pieces = named.get(attribute.name);
          if (pieces) pieces.push(piece);
          else if (named.size < MAX_STREAMS) named.set(attribute.name, [piece]);
        }
      } else if (attribute.type === ATTRIBUTE_TYPE.reparsePoint && !attribute.nonResident) {
        reparse = residentValue(each, attribute).bytes;
      }
    }
  };
  take(record);
  for (const each of extensions) take(each);
  const content = streamContent(main, geometry, start);
  const notes: string[] = content ? [...content.notes] : [];
  const size = content?.size ?? 0;
  const encrypted = main.some((piece) => (piece.attribute.flags & ATTRIBUTE_FLAG.encrypted) !== 0);
  const tag = reparse && reparse.length >= 4 ? new Cursor(reparse).u32(0) : null;
  const link = tag === REPARSE_TAG.mountPoint || tag === REPARSE_TAG.symlink;
  if (link && record.directory) notes.push(LINK);
  const coded = tag === REPARSE_TAG.systemCompressed && reparse ? systemLayout(reparse, named, around, size) : null;
  if (coded) {
    named?.delete(CODED_STREAM);
    notes.push(...coded.notes);
  }
  const streams = named ? [...named].map(([name, pieces]) => streamOf(name, pieces, around)) : NO_STREAMS;
  if (streams.length > 0)
    notes.push(
      `Has ${streams.length} further named stream${streams.length > 1 ? "s" : ""}: ${streams
        .slice(0, 8)
        .map((stream) => stream.name)
        .join(", ")}.`,
    );
  if (encrypted) return { size, content: SEALED, streams: streams.map((stream) => ({ ...stream, layout: null })), notes };
  const layout = coded ? coded.layout : (content?.layout ?? null);
  if (keptElsewhere(record, tag, layout, size)) return { size, content: IN_THE_CLOUD, streams, notes };
  if (link && size === 0) return { size, content: A_LINK, streams, notes };
  return { size, content: layout ? placed(layout) : coded ? NOT_FOLLOWED : NO_CONTENT, streams, notes };
}

const LINK = "A link to another place: shown, never followed.";
const A_LINK = absent("not-followed", LINK);
const SEALED = absent("encrypted", "Encrypted by the file system: without its owner's key the content stays closed.");
const IN_THE_CLOUD = absent(
  "cloud-only",
  "Kept only in the cloud: its content was never stored on this drive. Fetch it from the cloud folder's account.",
);
const NOT_FOLLOWED = absent("not-followed", "Compressed by the system in a way that cannot be followed here: the content is left out.");

const ELSEWHERE = KEPT_ELSEWHERE.offline | KEPT_ELSEWHERE.recallOnOpen | KEPT_ELSEWHERE.recallOnDataAccess;

/**
 * Whether a file's content is kept by a cloud folder and not here: it says so by its reparse tag or attributes, and some of its bytes were
 * never stored. One that was fetched in full is a file like any other.
 */
function keptElsewhere(record: MftRecord, tag: number | null, layout: Layout | null, size: number): boolean {
  if (record.directory || size === 0) return false;
  if (!(tag !== null && isCloudTag(tag)) && (fileAttributes(record) & ELSEWHERE) === 0) return false;
  return !layout || layout.segments.some((segment) => segment.kind === "hole");
}

function streamOf(name: string, pieces: readonly StreamPiece[], { geometry, start }: Surroundings): FileRecord["streams"][number] {
  const content = streamContent(pieces, geometry, start);
  return { name, size: content?.size ?? 0, layout: content?.layout ?? null };
}

function systemLayout(
  reparse: Uint8Array,
  named: ReadonlyMap<string, StreamPiece[]> | undefined,
  { disk, geometry, start }: Surroundings,
  size: number,
): { layout: Layout | null; notes: string[] } {
  const coding = systemCoding(reparse);
  const stream = streamContent(named?.get(CODED_STREAM) ?? [], geometry, start);
  const found = coding && stream ? systemCompressed(disk, stream.layout, size, coding) : null;
  return found ?? { layout: null, notes: [] };
}

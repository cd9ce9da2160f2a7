import { type ByteSource, readBytes } from "../../bytes/byte-source";
import { EMPTY_LAYOUT, firstByte, type Layout, LayoutSource, layoutOf, type Segment } from "../../bytes/layout";
import type { Range } from "../../bytes/range-set";
import { ALL_BYTES_THERE, absent, type ByteEvidence, type Content, EMPTIED, type FileRecord, NO_CONTENT, placed } from "../file-record";
import { describeUse, tellsOfUse } from "../mac-attributes";
import { COMPRESSION_ATTRIBUTE, compressedContent, FINDER_STREAM, RESOURCE_STREAM } from "../mac-compression";
import { marksOfMac } from "../mac-marks";
import { macTimeToMs } from "../mac-times";
import type { Attributes } from "./attributes";
import { type CatalogIndex, isSymbolicLink, UNKNOWN_PARENT } from "./catalog-index";
import type { Extent, FileEntry, FolderEntry, Fork } from "./catalog-record";
import { COMPRESSED, FINDER_INFO, FORK_TYPE } from "./layout";
import type { OverflowExtents } from "./overflow";
import type { NamedPlace, Remnants } from "./remnants";

/** Bytes of the Finder info that are no marks of a person's: numbers and dates the system keeps for itself (from memory). */
const FINDER_OWN: readonly Range[] = [
  { start: 16, end: 24 },
  { start: 28, end: 32 },
];
/** A link's target is at most so long. Bytes. */
const MOST_TARGET = 4096;

/** The blocks of a volume. */
export interface Blocks {
  /** Disk byte offset of block 0. */
  readonly start: number;
  /** Bytes. */
  readonly blockSize: number;
  readonly count: number;
}

/**
 * Where the bytes of a fork stand, given all its extents.
 * @param blockSize bytes of a block: another one than the volume's own in what an earlier file system has left
 */
export function forkLayout(blocks: Blocks, fork: Fork, extents: readonly Extent[], blockSize = blocks.blockSize): Layout {
  const count = Math.floor((blocks.count * blocks.blockSize) / blockSize);
  const [first] = extents;
  // Nearly all files stand in one piece.
  if (first && extents.length === 1 && fork.size > 0 && fork.size <= first.count * blockSize && first.start + first.count <= count)
    return { size: fork.size, segments: [{ kind: "disk", at: blocks.start + first.start * blockSize, length: fork.size }] };
  const segments = extents.map((extent): Segment => {
    const length = extent.count * blockSize;
    return extent.start + extent.count > count
      ? { kind: "lost", length }
      : { kind: "disk", at: blocks.start + extent.start * blockSize, length };
  });
  return layoutOf(segments, Math.min(fork.size, 2 ** 50));
}

/** Describes files by their records: content, compressed or not, resource fork, attributes. */
export class FileDescriber {
  constructor(
    private readonly disk: ByteSource,
    private readonly blocks: Blocks,
    private readonly overflow: OverflowExtents,
    private readonly attributes: Attributes,
  ) {}

  #layoutOf(cnid: number, type: number, fork: Fork, remnants: boolean, blockSize: number): Layout {
    return fork.size === 0 ? EMPTY_LAYOUT : forkLayout(this.blocks, fork, this.overflow.extentsOf(cnid, type, fork, remnants), blockSize);
  }

  /** A file by its own record. Path and name are the caller's. */
  describe(
    entry: FileEntry,
    rawName: Uint8Array,
    reference: string,
    { state, system, links }: { state: FileRecord["state"]; system: boolean; links: number },
    evidence?: (layout: Layout) => ByteEvidence,
    blockSize = this.blocks.blockSize,
  ): FileRecord {
    const { facts } = entry;
    const gone = state === "deleted";
    const data = this.#layoutOf(facts.fileID, FORK_TYPE.data, entry.data, gone, blockSize);
    const resource = entry.resource.size > 0 ? this.#layoutOf(facts.fileID, FORK_TYPE.resource, entry.resource, gone, blockSize) : null;
    const attributes = this.attributes.of(facts.fileID);
    const notes: string[] = [];
    const placedAt = (layout: Layout): Content => placed(layout, evidence ? evidence(layout) : lostOf(layout));
    // Systems empty a file as they delete it: the size in such a record says nothing about what the file held.
    const emptied = gone && data.size === 0 && entry.data.blocks === 0 && (facts.ownerFlags & COMPRESSED) === 0;
    let content = emptied ? EMPTIED : placedAt(data);
    let size = data.size;
    let usesResource = false;
    const coded = attributes.find(({ name }) => name === COMPRESSION_ATTRIBUTE);
    if ((facts.ownerFlags & COMPRESSED) !== 0 || (coded && entry.data.size === 0)) {
      const bytes =
        coded?.held ??
        (coded
          ? {
              bytes: readBytes(new LayoutSource(this.disk, coded.layout), 0, Math.min(coded.size, 1 << 20)),
              at: firstByte(coded.layout) ?? 0,
            }
          : null);
      const found = bytes && compressedContent(bytes, resource, this.disk);
      if (found) {
        size = found.size;
        usesResource = found.usesResource;
        content = found.layout ? placedAt(found.layout) : absent("not-followed", found.notes.join(" "));
        if (found.layout) notes.push(...found.notes);
      } else if (entry.data.size === 0) content = absent("record-damaged", "Compressed by the system; the record that says how is gone.");
    }
    if (isSymbolicLink(entry)) {
      const bytes = readBytes(new LayoutSource(this.disk, data), 0, Math.min(data.size, MOST_TARGET));
      content = absent("not-followed", describeLink(bytes, gone ? (evidence?.(data) ?? lostOf(data)) : null));
    }
    const streams: FileRecord["streams"][number][] = [];
    if (resource && !usesResource) streams.push({ name: RESOURCE_STREAM, size: resource.size, layout: resource });
    const finder = isSymbolicLink(entry) ? null : finderInfo(entry);
    if (finder) {
      streams.push({
        name: FINDER_STREAM,
        size: finder.length,
        layout: { size: finder.length, segments: [{ kind: "held", at: 0, length: finder.length, bytes: finder }] },
      });
    }
    for (const { name, size: bytes, layout } of attributes)
      if (name !== COMPRESSION_ATTRIBUTE || coded === undefined) streams.push({ name, size: bytes, layout });
    for (const { name, held } of attributes) {
      const said = held && tellsOfUse(name) ? describeUse(name, held.bytes) : null;
      if (said) notes.push(said);
    }
    return {
      reference,
      state,
      type: "file",
      path: "",
      name: "",
      rawName,
      size,
      created: macTimeToMs(facts.createDate),
      modified: macTimeToMs(facts.contentModDate),
      changed: macTimeToMs(facts.attributeModDate),
      content,
      system,
      streams,
      links,
      marks: marksOfMac({ flags: facts.ownerFlags | (facts.adminFlags << 16), mode: facts.fileMode, finderFlags: facts.fdFlags }),
      notes,
    };
  }
}

/** What a link that was deleted has left of where it led may be another file's by now. @param evidence null: the link lives */
function describeLink(bytes: Uint8Array, evidence: ByteEvidence | null): string {
  if (!evidence) return `A link to “${new TextDecoder().decode(bytes)}”: it is shown and not followed.`;
  const target = decodeStrictly(bytes);
  const sound = target !== null && target.trim() !== "" && !CONTROL.test(target);
  return sound && evidence.usedByOthers + evidence.takenLater + evidence.lost === 0
    ? `It was a link; where it led to reads “${target}” now. It is shown and not followed.`
    : "It was a link; where it led to has been written over.";
}

// biome-ignore lint/suspicious/noControlCharactersInRegex: paths have none, and other bytes mostly do
const CONTROL = /[\0-\x1f\x7f]/;

function decodeStrictly(bytes: Uint8Array): string | null {
  try {
    return new TextDecoder("utf-8", { fatal: true }).decode(bytes);
  } catch {
    return null;
  }
}

export function lostOf(layout: Layout): ByteEvidence {
  const lost = layout.segments.reduce((sum, segment) => sum + (segment.kind === "lost" ? segment.length : 0), 0);
  return lost === 0 ? ALL_BYTES_THERE : { ...ALL_BYTES_THERE, lost };
}

function finderInfo({ stored: { cursor, at } }: FileEntry): Uint8Array | null {
  // Of nearly all files it is empty.
  let any = 0;
  for (let word = 0; word < FINDER_INFO.length; word += 4) any |= cursor.u32be(at + FINDER_INFO.at + word);
  if (any === 0) return null;
  const bytes = cursor.slice(at + FINDER_INFO.at, FINDER_INFO.length).slice();
  for (const { start, end } of FINDER_OWN) bytes.fill(0, start, end);
  return bytes.some((byte) => byte !== 0) ? bytes : null;
}

/** A record under each of the paths its folder has. */
export function underPaths(
  index: CatalogIndex,
  { parent, rawName }: NamedPlace,
  name: string,
  remnants: Remnants | null,
  describe: () => FileRecord,
): FileRecord[] {
  const paths = index.pathsOf(parent, remnants);
  const raw = rawName.slice();
  return (paths.length > 0 ? paths : [UNKNOWN_PARENT]).map((path) => {
    // Filled in, not copied: records come by the million, and nearly all have one path.
    const record: { -readonly [Key in keyof FileRecord]: FileRecord[Key] } = describe();
    record.path = `${path}/${name}`;
    record.name = name;
    record.rawName = raw;
    if (path.startsWith(UNKNOWN_PARENT))
      record.notes = [...record.notes, "A folder above it is not known any more: the full path is not known."];
    return record;
  });
}

export function folderRecord(
  entry: FolderEntry,
  { reference, system, state }: { reference: string; system: boolean; state: FileRecord["state"] },
): FileRecord {
  const { facts } = entry;
  return {
    reference,
    state,
    type: "folder",
    path: "",
    name: "",
    rawName: new Uint8Array(),
    size: 0,
    created: macTimeToMs(facts.createDate),
    modified: macTimeToMs(facts.contentModDate),
    changed: macTimeToMs(facts.attributeModDate),
    content: NO_CONTENT,
    system,
    streams: [],
    links: 1,
    notes: [],
  };
}

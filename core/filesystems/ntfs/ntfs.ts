import { type ByteSource, WindowSource } from "../../bytes/byte-source";
import { Cursor } from "../../bytes/cursor";
import { LayoutSource } from "../../bytes/layout";
import { RangeSet } from "../../bytes/range-set";
import { decodeUtf16le } from "../../bytes/text";
import { AllocationMap } from "../allocation-map";
import { ALL_BYTES_THERE, type ByteEvidence, type FileRecord, type FileSystem, FileSystemError, type RecordBatch } from "../file-record";
import { type Geometry, readEitherBootSector } from "./boot-sector";
import { searchGeometry } from "./found-geometry";
import { ATTRIBUTE_FLAG, ATTRIBUTE_TYPE, NAMESPACE, REPARSE_TAG, SYSTEM_RECORD } from "./layout";
import { MftIndex, UNKNOWN_PARENT } from "./mft-index";
import { type FileName, type MftRecord, parseMftRecord, residentValue, standardTimes } from "./mft-record";
import { MftTable } from "./mft-table";
import { type StreamPiece, streamContent } from "./stream-layout";

/** Names of one file beyond this are damage or an attack on memory. */
const MAX_LINKS = 1024;

/**
 * Opens an NTFS volume.
 * @param disk the whole disk: all offsets in records and layouts count from its first byte
 * @throws FileSystemError when the boot sector or the file table cannot be followed
 */
export function openNtfs(disk: ByteSource, start: number, length: number): FileSystem {
  const { geometry, notes } = volumeGeometry(disk, start, length);
  return new NtfsVolume(disk, start, MftTable.open(disk, start, geometry, notes));
}

function volumeGeometry(disk: ByteSource, start: number, length: number): { geometry: Geometry; notes: string[] } {
  try {
    return readEitherBootSector(new WindowSource(disk, start, length));
  } catch (error) {
    const found = error instanceof FileSystemError ? searchGeometry(disk, start, length) : null;
    if (!found) throw error;
    return { geometry: found, notes: ["Both boot sectors are damaged; the volume's measures were worked out from its file records."] };
  }
}

interface Content {
  readonly size: number;
  readonly layout: FileRecord["layout"];
  readonly streams: FileRecord["streams"];
  readonly encrypted: boolean;
  readonly notes: string[];
}

class NtfsVolume implements FileSystem {
  readonly allocation: AllocationMap | null;
  readonly label: string | null;
  readonly notes: readonly string[];
  readonly #geometry: Geometry;
  #index: MftIndex | undefined;

  constructor(
    private readonly disk: ByteSource,
    private readonly start: number,
    private readonly table: MftTable,
  ) {
    this.#geometry = table.geometry;
    this.allocation = this.#openAllocation();
    this.label = this.#readLabel();
    this.notes = this.allocation
      ? table.notes
      : [...table.notes, "The map of used clusters cannot be read: what deleted files still hold cannot be judged."];
  }

  get clusterSize(): number {
    return this.#geometry.clusterSize;
  }

  get allocationStart(): number {
    return this.start;
  }

  *readRecords(from: number, step: number): Generator<RecordBatch, void, void> {
    this.#index ??= new MftIndex(this.table);
    const index = this.#index;
    const total = this.table.recordCount;
    for (let next = from; next < total; ) {
      const records: FileRecord[] = [];
      this.table.walk(next, next + step, (bytes, number) => {
        // The bytes are reused by the walk while a record's held content must stay: parse a copy.
        const record = parseMftRecord(bytes.slice(), number);
        if (record && !record.base) records.push(...this.#tell(record, index));
      });
      next = Math.min(total, next + step);
      yield { records, resume: next, done: next, total };
    }
  }

  #tell(record: MftRecord, index: MftIndex): FileRecord[] {
    if (record.number === SYSTEM_RECORD.root) return [];
    const extensions = index.extensionsOf(record);
    const system = record.number < SYSTEM_RECORD.firstUser;
    const names = this.#names(record, extensions, index);
    if (names.length === 0 && (system || record.directory)) return [];
    const content = this.#content(record, extensions);
    if (names.length === 0 && content.size === 0) return [];
    const times = standardTimes(record);
    const shared = {
      reference: `MFT record ${record.number}`,
      state: record.inUse ? ("live" as const) : ("deleted" as const),
      type: record.directory ? ("folder" as const) : ("file" as const),
      size: record.directory ? 0 : content.size,
      changed: times?.mftChanged ?? null,
      layout: record.directory ? null : content.layout,
      evidence: record.inUse || !content.layout ? ALL_BYTES_THERE : this.#evidence(content.layout, index.takenLater(record.number)),
      encrypted: content.encrypted,
      streams: content.streams,
      links: Math.max(1, names.length),
    };
    if (names.length === 0) {
      const name = `record-${record.number}`;
      const notes = [...record.notes, ...content.notes, "The name of this deleted file is gone; its record number stands in its place."];
      const { created = null, modified = null } = times ?? {};
      return [{ ...shared, path: `${UNKNOWN_PARENT}/${name}`, name, rawName: new Uint8Array(), created, modified, system, notes }];
    }
    return names.map((name): FileRecord => {
      const parent = index.pathOf(name.parent);
      const notes = [...record.notes, ...content.notes];
      if (parent.startsWith(UNKNOWN_PARENT)) notes.push("A folder above it was reused for something else: the full path is not known.");
      // Field by field: spreading the shared ones would cost more than all the rest, and records come by the million.
      return {
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
        layout: shared.layout,
        evidence: shared.evidence,
        system: system || parent === "/$Extend" || parent.startsWith("/$Extend/"),
        encrypted: shared.encrypted,
        streams: shared.streams,
        links: shared.links,
        notes,
      };
    });
  }

  /** One entry for each name a user sees; the 8.3 alias only when there is no other. */
  #names(record: MftRecord, extensions: readonly MftRecord[], index: MftIndex): FileName[] {
    const all = index.namesOf(record, extensions);
    const long = all.filter((name) => name.namespace !== NAMESPACE.dos);
    const distinct = new Map<string, FileName>();
    for (const name of long.length > 0 ? long : all) distinct.set(`${name.parent.record}/${name.name}`, name);
    const names = [...distinct.values()].slice(0, MAX_LINKS);
    // Slack may hold older names too; of a deleted file only one is its own.
    return record.inUse ? names : names.slice(0, 1);
  }

  #content(record: MftRecord, extensions: readonly MftRecord[]): Content {
    const notes: string[] = [];
    const streams = new Map<string, StreamPiece[]>();
    let reparse: number | undefined;
    for (const each of [record, ...extensions]) {
      const recordAt = this.table.recordAt(each.number);
      for (const attribute of each.attributes) {
        if (attribute.type === ATTRIBUTE_TYPE.data) {
          streams.set(attribute.name, [...(streams.get(attribute.name) ?? []), { record: each, attribute, recordAt }]);
        } else if (attribute.type === ATTRIBUTE_TYPE.reparsePoint && !attribute.nonResident) {
          const { bytes } = residentValue(each, attribute);
          if (bytes.length >= 4) reparse = new Cursor(bytes).u32(0);
        }
      }
    }
    const main = streams.get("") ?? [];
    streams.delete("");
    const named = [...streams].map(([name, pieces]) => ({
      name,
      size: streamContent(pieces, this.#geometry, this.start)?.size ?? 0,
    }));
    const encrypted = main.some((piece) => (piece.attribute.flags & ATTRIBUTE_FLAG.encrypted) !== 0);
    const content = streamContent(main, this.#geometry, this.start);
    notes.push(...(content?.notes ?? []));
    if (named.length > 0)
      notes.push(
        `Has ${named.length} further named stream${named.length > 1 ? "s" : ""} that ${named.length > 1 ? "are" : "is"} not restored yet: ${named
          .slice(0, 8)
          .map((stream) => stream.name)
          .join(", ")}.`,
      );
    if (reparse === REPARSE_TAG.mountPoint || reparse === REPARSE_TAG.symlink)
      notes.push("A link to another place: shown, never followed.");
    const size = content?.size ?? 0;
    if (encrypted) {
      notes.push("Encrypted by the file system: without its owner's key the content stays closed.");
      return { size, layout: null, streams: named, encrypted, notes };
    }
    if (reparse === REPARSE_TAG.systemCompressed) {
      notes.push("Compressed by the system in a way that is not read yet: the content is left out.");
      return { size, layout: null, streams: named, encrypted, notes };
    }
    return { size, layout: content?.layout ?? null, streams: named, encrypted, notes };
  }

  /** What became of a deleted file's bytes, by the volume's map and by the claims of files deleted later. */
  #evidence(layout: NonNullable<FileRecord["layout"]>, takenLater: RangeSet | undefined): ByteEvidence {
    let usedByOthers = 0;
    let taken = 0;
    let lost = 0;
    for (const segment of layout.segments) {
      if (segment.kind === "lost") lost += segment.length;
      else if (segment.kind === "disk") {
        const found = this.#overwritten(segment.at, segment.length, takenLater);
        usedByOthers += found.used;
        taken += found.taken;
      } else if (segment.kind === "coded") {
        const found = segment.from.map((run) => this.#overwritten(run.at, run.length, takenLater));
        // One lost byte spoils all that is coded after it: the unit counts as gone.
        if (found.some((each) => each.used > 0)) usedByOthers += segment.length;
        else if (found.some((each) => each.taken > 0)) taken += segment.length;
      }
    }
    return { usedByOthers, takenLater: taken, lost };
  }

  #overwritten(at: number, length: number, takenLater: RangeSet | undefined): { used: number; taken: number } {
    const { clusterSize } = this.#geometry;
    const first = Math.floor((at - this.start) / clusterSize);
    const end = Math.ceil((at - this.start + length) / clusterSize);
    const bytes = new RangeSet();
    const add = (range: { start: number; end: number }) =>
      bytes.add(Math.max(at, this.start + range.start * clusterSize), Math.min(at + length, this.start + range.end * clusterSize));
    for (const range of this.allocation?.usedWithin(first, end - first) ?? []) add(range);
    const used = bytes.total;
    for (const range of takenLater?.within(first, end) ?? []) add(range);
    return { used, taken: bytes.total - used };
  }

  #openAllocation(): AllocationMap | null {
    const record = this.table.read(SYSTEM_RECORD.bitmap);
    const attribute = record?.attributes.find((each) => each.type === ATTRIBUTE_TYPE.data && each.name === "");
    if (!record || !attribute) return null;
    const content = streamContent([{ record, attribute, recordAt: this.table.recordAt(record.number) }], this.#geometry, this.start);
    if (!content || content.size * 8 < this.#geometry.clusters) return null;
    return new AllocationMap(new LayoutSource(this.disk, content.layout), this.#geometry.clusters);
  }

  #readLabel(): string | null {
    const record = this.table.read(SYSTEM_RECORD.volume);
    const attribute = record?.attributes.find((each) => each.type === ATTRIBUTE_TYPE.volumeName && !each.nonResident);
    const label = record && attribute ? decodeUtf16le(residentValue(record, attribute).bytes) : "";
    return label || null;
  }
}

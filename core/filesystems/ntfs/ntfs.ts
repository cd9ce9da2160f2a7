import { type ByteSource, WindowSource } from "../../bytes/byte-source";
import { type Checkpoint, numberCheckpoint, readNumberCheckpoint } from "../../bytes/checkpoint";
import { type Layout, LayoutSource } from "../../bytes/layout";
import { type Range, RangeSet } from "../../bytes/range-set";
import { decodeUtf16le } from "../../bytes/text";
import { AllocationMap } from "../allocation-map";
import { blockEvidence } from "../block-evidence";
import {
  absent,
  type ByteEvidence,
  type FileRecord,
  type FileSystem,
  FileSystemError,
  type Finding,
  likeliest,
  NO_CONTENT,
  type RecordBatch,
  type StateOfVolume,
} from "../file-record";
import type { Leftovers } from "../leftovers";
import { SECTOR } from "../sector-scan";
import { type Geometry, readEitherBootSector } from "./boot-sector";
import { ChangeJournal, JOURNAL } from "./change-journal";
import { claimedRuns } from "./claimed-runs";
import { ntfsFindings } from "./consistency";
import { type Surroundings, toFileRecords } from "./file-records";
import { type IndexName, readFolderIndex } from "./folder-index";
import { searchGeometry } from "./found-geometry";
import { ATTRIBUTE_TYPE, SYSTEM_RECORD } from "./layout";
import { LeftoverRecords } from "./leftover-records";
import { bestName, MftIndex, sameFile } from "./mft-index";
import { fileNames, type MftRecord, type MftReference, parseMftRecord, residentValue } from "./mft-record";
import { MftTable } from "./mft-table";
import { readRuns } from "./run-list";
import { stretchesOf } from "./snapshots/catalog";
import { STORE_FILE, STORE_FILE_PART } from "./snapshots/layout";
import { PastDisk, PastRecords, type PresentVolume } from "./snapshots/past-volume";
import { Snapshots, type StoreFile } from "./snapshots/snapshots";
import { streamContent } from "./stream-layout";
import { unclaimedFiles } from "./unclaimed";

/** What leftover records had taken from one another is counted in units of so many bytes. */
const LEFTOVER_UNIT = 512;

/** What keeps a snapshot is the file system's own. */
const asOwn = (file: FileRecord): FileRecord => (STORE_FILE.test(file.name) ? { ...file, system: true } : file);

/** Files that kept snapshots, whose records are looked at: far more than a volume can have. */
const MOST_STORE_FILES = 4096;
/** Records looked through for the change journal when no index leads to it. */
const MOST_SEARCHED = 4096;

/**
 * Opens an NTFS volume.
 * @param disk the whole disk: all offsets in records and layouts count from its first byte
 * @throws FileSystemError when the boot sector or the file table cannot be followed
 */
export function openNtfs(disk: ByteSource, start: number, length: number, view: string | null = null): FileSystem {
  const { geometry, notes } = volumeGeometry(disk, start, length);
  const present = new NtfsVolume(disk, start, length, MftTable.open(disk, start, geometry, notes));
  return view === null ? present : openSnapshot(disk, start, length, present, view);
}

/** @throws FileSystemError when the volume has no such snapshot, or the volume cannot be followed as it was then */
function openSnapshot(disk: ByteSource, start: number, length: number, present: NtfsVolume, view: string): FileSystem {
  const found = present.snapshots().open(view);
  if (!found) throw new FileSystemError("The volume has no snapshot of this name any more.");
  const past = new PastDisk(disk, start, length, found.map);
  const { geometry, notes } = volumeGeometry(past, start, length);
  const table = MftTable.open(past, start, geometry, [...notes, ...found.notes]);
  return new NtfsVolume(past, start, length, table, new PastRecords(disk, start, found.map, present));
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

class NtfsVolume implements FileSystem, PresentVolume {
  readonly allocation: AllocationMap | null;
  readonly label: string | null;
  readonly notes: readonly string[];
  readonly #geometry: Geometry;
  #index: MftIndex | undefined;
  #journal: ChangeJournal | "none" | undefined;
  #snapshots: Snapshots | undefined;

  /** @param past set when the disk is that of a snapshot: its records are turned into those of the disk as it is */
  constructor(
    private readonly disk: ByteSource,
    private readonly start: number,
    private readonly length: number,
    private readonly table: MftTable,
    private readonly past: PastRecords | null = null,
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

  /** First the table's records, then (a unit each) the folders whose indexes may know names that no record has any more. */
  *readRecords(from: Checkpoint | null, step: number): Generator<RecordBatch, void, void> {
    this.#index ??= new MftIndex(this.table);
    const index = this.#index;
    const around = this.#around(index);
    const inTable = this.table.recordCount;
    const { folders } = index;
    const total = inTable + folders.length;
    const first = readNumberCheckpoint(from);
    for (let next = first; next < inTable; ) {
      const records: FileRecord[] = [];
      this.table.walk(next, next + step, (bytes, number) => {
        const record = parseMftRecord(bytes, number);
        if (record && !record.base) records.push(...this.#toFileRecords(record, around));
      });
      next = Math.min(inTable, next + step);
      yield { records, resume: numberCheckpoint(next), done: next, total };
    }
    for (let next = Math.max(first, inTable); next < total; ) {
      const end = Math.min(total, next + step);
      const records: FileRecord[] = [];
      for (; next < end && records.length < step * 4; next += 1)
        records.push(...this.#namesInIndexes(folders[next - inTable] as number, index, around));
      yield { records, resume: numberCheckpoint(next), done: next, total };
    }
  }

  leftovers(part: Range): Leftovers | null {
    // What lies about in the volume is found in it as it is now.
    if (this.past) return null;
    const { allocation } = this;
    const unclaimed = {
      head: SECTOR,
      firstBytes: [],
      note: () => false,
      found: () => ({
        count: allocation ? 1 : 0,
        describe: () => (allocation ? [...unclaimedFiles(this.table, allocation, this.start, part)] : []),
      }),
    };
    const volume = new WindowSource(this.disk, this.start, this.length);
    return { volume, start: this.start, scans: [this.#leftoverRecords(), unclaimed] };
  }

  #leftoverRecords(): LeftoverRecords {
    const tableRuns = this.#tableRuns();
    const { clusterSize } = this.#geometry;
    return new LeftoverRecords({
      disk: this.disk,
      start: this.start,
      length: this.length,
      geometry: this.#geometry,
      mayHold: (at) => {
        if (this.table.holds(at)) return false;
        const cluster = Math.floor((at - this.start) / clusterSize);
        // The table's own clusters may reach past its last record: what is there was there before it.
        return !(this.allocation?.isUsed(cluster) ?? false) || tableRuns.overlap(cluster, cluster + 1) > 0;
      },
      has: (record) => {
        const present = this.table.read(record.number);
        const name = present && bestName(fileNames(present));
        return present?.sequence === record.sequence && name?.name === bestName(fileNames(record))?.name;
      },
      deleted: () => this.#deletedRecords(),
      evidence: (layout, taken) => this.#evidence(layout, taken, LEFTOVER_UNIT),
    });
  }

  *#deletedRecords(): Generator<{ record: MftRecord; runs: Iterable<Range> }, void, void> {
    const { clusters, clusterSize } = this.#geometry;
    for (let number = 0; number < this.table.recordCount; number += 1) {
      const record = this.table.read(number);
      if (record && !record.inUse) yield { record, runs: claimedRuns(record, clusters, clusterSize / LEFTOVER_UNIT) };
    }
  }

  findings(): Finding[] {
    this.#index ??= new MftIndex(this.table);
    return ntfsFindings(this.table, this.#index, this.allocation);
  }

  states(): StateOfVolume[] {
    return this.past ? [] : this.snapshots().list();
  }

  /** The snapshots kept inside this volume. */
  snapshots(): Snapshots {
    this.#snapshots ??= new Snapshots(new WindowSource(this.disk, this.start, this.length), () => this.#storeFiles());
    return this.#snapshots;
  }

  fileAt(number: number) {
    const record = this.table.read(number);
    if (!record?.inUse || record.base) return null;
    this.#index ??= new MftIndex(this.table);
    const [file] = toFileRecords(record, this.#around(this.#index));
    if (!file) return null;
    return { sequence: record.sequence, modified: file.modified, layout: likeliest(file)?.layout ?? null };
  }

  /** The files that keep snapshots, or kept them: also where only their records are left. */
  *#storeFiles(): Generator<StoreFile, void, void> {
    const part = Buffer.from(STORE_FILE_PART, "utf16le");
    const found: number[] = [];
    this.table.walk(0, this.table.recordCount, (bytes, number) => {
      if (found.length < MOST_STORE_FILES && Buffer.from(bytes.buffer, bytes.byteOffset, bytes.length).includes(part)) found.push(number);
    });
    if (found.length === 0) return;
    this.#index ??= new MftIndex(this.table);
    const around = this.#around(this.#index);
    for (const number of found) {
      const record = this.table.read(number);
      if (!record || record.base) continue;
      for (const file of toFileRecords(record, around)) {
        const layout = likeliest(file)?.layout;
        if (layout) yield { name: file.name, created: file.created, stretches: stretchesOf(layout, this.start) };
      }
    }
  }

  /** Records of a snapshot as those of the disk as it is now. */
  #relay(files: FileRecord[], { number, sequence, inUse }: MftRecord): FileRecord[] {
    const { past } = this;
    if (!past) return files;
    const at = this.table.recordAt(number);
    return files.map((file) => past.relay(file, number, inUse ? sequence : sequence - 1, at, this.#geometry.recordSize));
  }

  /** All clusters of the table, those past its last record included. */
  #tableRuns(): RangeSet {
    const record = this.table.read(SYSTEM_RECORD.mft);
    const attribute = record?.attributes.find((each) => each.type === ATTRIBUTE_TYPE.data && each.name === "" && each.nonResident);
    const runs = record && attribute ? readRuns(record.cursor, attribute, this.#geometry.clusters).runs : [];
    return RangeSet.from(runs.flatMap((run) => (run.lcn === null ? [] : [{ start: run.lcn, end: run.lcn + run.length }])));
  }

  /** The records of the table, with what the change journal adds. */
  #toFileRecords(record: MftRecord, around: Surroundings): FileRecord[] {
    const files = this.#relay(toFileRecords(record, around), record).map(asOwn);
    const journal = this.#changes();
    if (!journal || files.length === 0 || record.number < SYSTEM_RECORD.firstUser) return files;
    // The journal knew the file under the number it had while it lived.
    const reference = { record: record.number, sequence: record.inUse ? record.sequence : record.sequence - 1 };
    const deletedAt = record.inUse ? null : journal.deletedAt(reference);
    const before = journal.oldNames(reference);
    if (deletedAt === null && before.length === 0) return files;
    const names = before
      .slice(-3)
      .map(
        ({ name, at }) => `Was called “${name}” until ${new Date(at).toISOString().slice(0, 19).replace("T", " ")} UTC (change journal).`,
      );
    return files.map((file) => ({
      ...file,
      ...(deletedAt === null ? {} : { deletedAt }),
      notes: names.length > 0 ? [...file.notes, ...names] : file.notes,
    }));
  }

  #around(index: MftIndex): Surroundings {
    return {
      disk: this.disk,
      start: this.start,
      geometry: this.#geometry,
      leftover: false,
      recordAt: (record) => this.table.recordAt(record.number),
      extensionsOf: (record) => index.extensionsOf(record),
      namesOf: (record, extensions) => index.namesOf(record, extensions),
      pathOf: (reference) => index.pathOf(reference),
      evidence: (layout, record) => this.#evidence(layout, index.takenLater(record.number), this.#geometry.clusterSize),
      reference: (record) => `MFT record ${record.number}`,
    };
  }

  /** Names that only the folders' indexes know: of files whose record was used again or is damaged, and earlier names. */
  *#namesInIndexes(folder: number, index: MftIndex, around: Surroundings): Generator<FileRecord, void, void> {
    const record = this.table.read(folder);
    if (!record) return;
    const extensions = index.extensionsOf(record);
    // The record of a live file says all that an entry could.
    const settled = (reference: MftReference) => {
      const present = index.present(reference.record);
      return present?.inUse === true && present.sequence === reference.sequence;
    };
    const found = readFolderIndex(record, extensions, this.disk, this.start, this.#geometry, around.recordAt, settled);
    if (found.names.length === 0) return;
    const live = found.live();
    const seen = new Set<string>();
    const path = index.pathOf({ record: folder, sequence: record.sequence });
    for (const entry of found.names) {
      const { reference, name, slack } = entry;
      if (reference.record < SYSTEM_RECORD.firstUser || (slack && live.has(name.name.toLowerCase()))) continue;
      const key = `${reference.record}/${reference.sequence}/${name.name}`;
      if (seen.has(key)) continue;
      seen.add(key);
      const named = this.#nameOnly(entry, path, record.inUse, index, around);
      if (named) yield named;
    }
  }

  #nameOnly(entry: IndexName, folder: string, folderLive: boolean, index: MftIndex, around: Surroundings): FileRecord | null {
    const { reference, name, slack } = entry;
    const present = index.present(reference.record);
    const same = present !== null && sameFile(reference.sequence, present.sequence, present.inUse);
    if (same && !slack && present.inUse) return null;
    const owner = same ? this.table.read(reference.record) : null;
    const known = owner && !owner.base ? this.#relay(toFileRecords(owner, around), owner) : [];
    const path = `${folder}/${name.name}`;
    if (known.some((file) => file.path === path)) return null;
    const shared = {
      reference: `index entry of ${folder || "the root folder"}, for MFT record ${reference.record}`,
      path,
      name: name.name,
      rawName: name.raw,
      created: name.created,
      modified: name.modified,
      system: folder === "/$Extend" || folder.startsWith("/$Extend/"),
    };
    const [file] = known;
    // The record is still that of the file: this is a name it had earlier, or in another folder.
    if (file) {
      const note = `An earlier name of the file that its record now calls “${file.path.slice(1)}”; found in the unused end of the folder's index.`;
      return { ...file, ...shared, state: "deleted", created: file.created, modified: file.modified, notes: [...file.notes, note] };
    }
    const damaged = !slack && folderLive && present === null;
    const why = damaged
      ? "Its folder lists this file, but its file record is damaged: where its content stands is not known from here."
      : "Only its name is left, in the unused end of the folder's index: its file record was used for something else.";
    return {
      ...shared,
      state: damaged ? "live" : "deleted",
      type: name.directory ? "folder" : "file",
      size: name.directory || name.size > Number.MAX_SAFE_INTEGER ? 0 : name.size,
      changed: null,
      content: name.directory ? NO_CONTENT : absent("record-damaged", why),
      streams: [],
      links: 1,
      notes: name.directory ? [why] : [],
    };
  }

  /** The change journal, when the volume has one that can be read. */
  #changes(): ChangeJournal | null {
    this.#journal ??= this.#openJournal();
    return this.#journal === "none" ? null : this.#journal;
  }

  #openJournal(): ChangeJournal | "none" {
    const extend = this.table.read(SYSTEM_RECORD.extend);
    const index = this.#index;
    if (!extend || !index) return "none";
    const listed = readFolderIndex(extend, index.extensionsOf(extend), this.disk, this.start, this.#geometry, (record) =>
      this.table.recordAt(record.number),
    )
      .names.filter((entry) => !entry.slack && entry.name.name === JOURNAL.file)
      .map((entry) => entry.reference.record);
    // With a damaged index: it is one of the first files a system makes.
    const near =
      listed.length > 0 ? listed : Array.from({ length: Math.min(MOST_SEARCHED, this.table.recordCount) }, (_, number) => number);
    for (const number of near) {
      const record = this.table.read(number);
      if (!record?.inUse || record.base) continue;
      const extensions = index.extensionsOf(record);
      if (!index.namesOf(record, extensions).some((name) => name.name === JOURNAL.file && name.parent.record === SYSTEM_RECORD.extend))
        continue;
      const pieces = [record, ...extensions].flatMap((each) =>
        each.attributes
          .filter((attribute) => attribute.type === ATTRIBUTE_TYPE.data && attribute.name === JOURNAL.stream)
          .map((attribute) => ({ record: each, attribute, recordAt: this.table.recordAt(each.number) })),
      );
      const content = streamContent(pieces, this.#geometry, this.start);
      if (content) return new ChangeJournal(this.disk, content.layout);
    }
    return "none";
  }

  #evidence(layout: Layout, takenLater: RangeSet | undefined, unit: number): ByteEvidence {
    const { clusterSize } = this.#geometry;
    return blockEvidence(
      layout,
      { start: this.start, blockSize: clusterSize, map: this.allocation },
      takenLater && { taken: takenLater, unit },
    );
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

import { type ByteSource, readBytes } from "../../bytes/byte-source";
import { Cursor } from "../../bytes/cursor";
import type { Layout } from "../../bytes/layout";
import type { Range, RangeSet } from "../../bytes/range-set";
import { Claims } from "../claims";
import type { ByteEvidence } from "../file-record";
import type { Ground } from "../ground";
import type { LeftoverScan, LeftoverUnits } from "../leftovers";
import { SECTOR } from "../sector-scan";
import type { Geometry } from "./boot-sector";
import { claimedRuns } from "./claimed-runs";
import { type Surroundings, toFileRecords } from "./file-records";
import { ATTRIBUTE, RECORD, SYSTEM_RECORD } from "./layout";
import { bestName, sameFile, UNKNOWN_PARENT } from "./mft-index";
import { fileNames, fileNamesInSlack, type MftRecord, type MftReference, parseMftRecord, standardTimes } from "./mft-record";
import { readRuns } from "./run-list";

const RECORD_SIZES = [512, 1024, 2048, 4096];
const MOST_RECORD = 4096;
/** "F" of "FILE". */
const RECORD_FIRST = 0x46;
/** Records remembered at most: 48 bytes each. */
const MOST_RECORDS = 8_000_000;
const MAX_DEPTH = 512;
/** The size of clusters of nearly all volumes. Bytes. */
const USUAL_CLUSTER = 4096;
const ANY = 2 ** 48;
/** Files of one name that had one record's number, at most. */
const MOST_SEQUENCES = 64;
/** Stands for the files of the present table among those that claim clusters. */
const PRESENT = -1;

interface Folder {
  readonly name: string;
  readonly parent: MftReference;
  readonly sequence: number;
  readonly inUse: boolean;
}

/** What the volume as it is now must answer about a place or a record. */
export interface Present {
  readonly disk: ByteSource;
  readonly start: number;
  readonly length: number;
  /** Its measures; null: its file system is of another kind. */
  readonly geometry: Geometry | null;
  /** Whether a record found at a place may be left over: not a part of the present table, nor the content of a present file. */
  mayHold(at: number): boolean;
  /** Whether the present table has this very record. */
  has(record: MftRecord): boolean;
  /** The records of files deleted since the volume is what it is now, with the stretches they claim, in sectors of 512 bytes from the volume's start. */
  deleted(): Iterable<{ readonly record: MftRecord; readonly runs: Iterable<Range> }>;
  /** What became of a layout's bytes; `taken`: stretches another file had later, in sectors of 512 bytes from the volume's start. */
  evidence(layout: Layout, taken: RangeSet | undefined): ByteEvidence;
}

/**
 * File records that stand outside the present table: those of the table that was there before a volume was formatted again, or
 * was cut off from the present one. Found by going through the whole volume; the old tree of folders is rebuilt from them.
 */
export class LeftoverRecords implements LeftoverScan {
  readonly head = MOST_RECORD;
  readonly firstBytes = [RECORD_FIRST];
  readonly #places: number[] = [];
  readonly #sizes: number[] = [];
  readonly #folders = new Map<number, Folder[]>();
  readonly #extensions = new Map<number, number[]>();
  readonly #paths = new Map<string, string>();
  readonly #clusterVotes = new Map<number, number>();

  constructor(private readonly present: Present) {}

  note(block: Uint8Array, inside: number, at: number): boolean {
    return this.#note(new Cursor(block), inside, this.present.start + at);
  }

  /** The files of the records, a unit each. */
  found(): LeftoverUnits {
    const taken = this.#takenLater();
    const usual = [...this.#clusterVotes].sort((a, b) => b[1] - a[1])[0]?.[0] ?? this.present.geometry?.clusterSize ?? USUAL_CLUSTER;
    const describe = (index: number) => {
      const record = this.#read(index);
      return record && !record.base && record.number >= SYSTEM_RECORD.firstUser && !this.present.has(record)
        ? toFileRecords(record, this.#around(clusterSizeOf(record) ?? usual, taken.get(index)))
        : [];
    };
    return { count: this.#places.length, describe };
  }

  #note(block: Cursor, inside: number, at: number): boolean {
    if (inside + SECTOR > block.size || block.u32(inside) !== RECORD.magicValue) return false;
    const size = block.u32(inside + RECORD.bytesAllocated);
    if (!RECORD_SIZES.includes(size) || inside + size > block.size || this.#places.length >= MOST_RECORDS || !this.present.mayHold(at))
      return false;
    const record = parseMftRecord(block.slice(inside, size).slice(), numberOf(block, inside, at), at);
    if (!record || record.attributes.length === 0) return false;
    const index = this.#places.length;
    this.#places.push(at);
    this.#sizes.push(size);
    const own = clusterSizeOf(record);
    if (own !== null) this.#clusterVotes.set(own, (this.#clusterVotes.get(own) ?? 0) + 1);
    if (record.base) {
      const known = this.#extensions.get(record.base.record);
      if (!known) this.#extensions.set(record.base.record, [index]);
      else if (known.length < 4096) known.push(index);
    } else if (record.directory) {
      const name = bestName(fileNames(record));
      const known = this.#folders.get(record.number) ?? [];
      if (name && known.length < 64)
        this.#folders.set(record.number, [
          ...known,
          { name: name.name, parent: name.parent, sequence: record.sequence, inUse: record.inUse },
        ]);
    }
    return true;
  }

  #read(index: number): MftRecord | null {
    const at = this.#places[index] as number;
    const bytes = readBytes(this.present.disk, at, this.#sizes[index] as number);
    const cursor = new Cursor(bytes);
    return parseMftRecord(bytes, numberOf(cursor, 0, at), at);
  }

  /**
   * What files of the old table had taken from one another: those that were live when it was left come last, and a deleted one
   * whose clusters they had lost them before. After all of them come the files of the present table that are deleted by now.
   */
  #takenLater(): Map<number, RangeSet> {
    const claims = new Claims();
    const sequences = new Map<string, number[]>();
    const called = (record: MftRecord) => `${record.number} ${bestName(fileNames(record))?.name}`;
    for (let index = 0; index < this.#places.length; index += 1) {
      const record = this.#read(index);
      const size = record && clusterSizeOf(record);
      if (!record || !size || record.base) continue;
      sequences.set(called(record), [...(sequences.get(called(record)) ?? []).slice(0, MOST_SEQUENCES - 1), record.sequence]);
      const changed = record.inUse ? Number.MAX_VALUE : (standardTimes(record)?.mftChanged ?? null);
      claims.add(index, claimedRuns(record, Math.floor(this.present.length / size), size / SECTOR), changed);
    }
    for (const { record, runs } of this.present.deleted()) {
      // An earlier form of the same file's record has lost nothing to it.
      const isSame = sequences.get(called(record))?.some((sequence) => sameFile(sequence, record.sequence, false));
      if (!isSame) claims.add(PRESENT, runs, Number.POSITIVE_INFINITY);
    }
    return claims.takenLater();
  }

  #around(clusterSize: number, taken: RangeSet | undefined): Surroundings {
    const { disk, start, length, geometry, evidence } = this.present;
    return {
      disk,
      start,
      geometry: clusterSize === geometry?.clusterSize ? geometry : { clusterSize, clusters: Math.floor(length / clusterSize) },
      leftover: true,
      recordAt: (record) => record.at,
      evidence: (layout) => evidence(layout, taken),
      extensionsOf: (record) =>
        (this.#extensions.get(record.number) ?? []).flatMap((index) => {
          const extension = this.#read(index);
          return extension?.base && extension.inUse === record.inUse && sameFile(extension.base.sequence, record.sequence, record.inUse)
            ? [extension]
            : [];
        }),
      namesOf: (record, extensions) => {
        const names = [record, ...extensions].flatMap(fileNames);
        return names.length > 0 ? names : [...extensions, record].flatMap(fileNamesInSlack);
      },
      pathOf: (reference) => this.#pathOf(reference, 0),
      reference: (record) => `leftover MFT record ${record.number < 0 ? "without a number" : record.number} at byte ${record.at}`,
    };
  }

  #pathOf(reference: MftReference, depth: number): string {
    if (reference.record === SYSTEM_RECORD.root) return "";
    const key = `${reference.record}/${reference.sequence}`;
    const kept = this.#paths.get(key);
    if (kept !== undefined) return kept;
    // Entered before the parents are followed, so that a circle ends here.
    this.#paths.set(key, UNKNOWN_PARENT);
    const folder = this.#folders.get(reference.record)?.find((each) => sameFile(reference.sequence, each.sequence, each.inUse));
    const path = folder && depth < MAX_DEPTH ? `${this.#pathOf(folder.parent, depth + 1)}/${folder.name}` : UNKNOWN_PARENT;
    this.#paths.set(key, path);
    return path;
  }
}

/** Finds what NTFS has left in a volume that is of another kind now. */
export const formerNtfs = (ground: Ground): LeftoverScan =>
  new LeftoverRecords({
    disk: ground.disk,
    start: ground.start,
    length: ground.volume.size,
    geometry: null,
    mayHold: (at) => ground.isFree(at - ground.start),
    has: () => false,
    deleted: () => [],
    evidence: (layout, taken) => ground.evidence(layout, taken, SECTOR),
  });

/** Since version 3.1 a record bears its number; an older one gets a number of its own that no reference means. */
function numberOf(cursor: Cursor, inside: number, at: number): number {
  return cursor.u16(inside + RECORD.usaOffset) >= RECORD.recordNumber + 4 ? cursor.u32(inside + RECORD.recordNumber) : -1 - at / SECTOR;
}

/** The size of a cluster as a record's own attributes give it: allocated bytes over clusters; null when none gives it. */
function clusterSizeOf(record: MftRecord): number | null {
  for (const attribute of record.attributes) {
    if (!attribute.nonResident || record.cursor.u64(attribute.at + ATTRIBUTE.lowestVcn) !== 0) continue;
    const { runs, sound } = readRuns(record.cursor, attribute, ANY);
    const clusters = runs.reduce((sum, run) => sum + run.length, 0);
    if (!sound || clusters === 0 || runs.some((run) => run.lcn === null)) continue;
    const size = record.cursor.u64(attribute.at + ATTRIBUTE.allocatedSize) / clusters;
    if (size >= 512 && size <= 2 << 20 && Number.isInteger(Math.log2(size))) return size;
  }
  return null;
}

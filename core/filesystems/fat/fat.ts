import { type ByteSource, readBytes, WindowSource } from "../../bytes/byte-source";
import { type Layout, layoutOf, type Segment } from "../../bytes/layout";
import type { AllocationMap } from "../allocation-map";
import { ALL_BYTES_THERE, type FileRecord, type FileSystem, type RecordBatch } from "../file-record";
import { type DirectoryEntry, readDirectory } from "./directory";
import { type ClusterRun, FatTable } from "./fat-table";
import { type FatGeometry, readGeometry } from "./geometry";
import { ENTRY } from "./layout";

/** Folders deeper, larger or more than this are damage or an attack on memory. */
const MAX_DEPTH = 128;
const MAX_FOLDER_BYTES = 1 << 26;
const MAX_FOLDERS = 1_000_000;

/**
 * Opens a FAT12, FAT16 or FAT32 volume.
 * @param disk the whole disk: all offsets in records and layouts count from its first byte
 * @throws FileSystemError when neither the boot sector nor its copy can be followed
 */
export function openFat(disk: ByteSource, start: number, length: number): FileSystem {
  const volume = new WindowSource(disk, start, length);
  return new FatVolume(volume, start, readGeometry(volume));
}

/** A folder that was found, with where its entries stand. */
interface Folder {
  readonly path: string;
  readonly deleted: boolean;
  readonly depth: number;
  readonly runs: readonly { at: number; length: number }[];
  readonly notes: readonly string[];
}

class FatVolume implements FileSystem {
  readonly allocation: AllocationMap;
  readonly label: string | null;
  readonly notes: readonly string[];
  readonly clusterSize: number;
  readonly #table: FatTable;
  /** How many deleted files claim each cluster, as far as it matters: 0, 1, or more. */
  #claims: Uint8Array | undefined;
  #folders: { folder: Folder; entries: number }[] | undefined;

  constructor(
    private readonly volume: ByteSource,
    private readonly start: number,
    private readonly geometry: FatGeometry,
  ) {
    this.clusterSize = geometry.clusterSize;
    this.#table = new FatTable(volume, geometry);
    this.allocation = this.#table.allocation();
    this.label = readDirectory(this.#bytes(this.#root()), geometry.bits === 32).label;
    this.notes = [
      ...geometry.notes,
      ...this.#table.notes,
      "Times on this volume are local times of the device that wrote them; they are shown as they stand.",
    ];
  }

  /** The map counts from cluster 2. */
  get allocationStart(): number {
    return this.start + this.geometry.dataAt;
  }

  *readRecords(from: number, step: number): Generator<RecordBatch, void, void> {
    this.#folders ??= this.#findFolders();
    const total = this.#folders.reduce((sum, each) => sum + each.entries, 0);
    let done = 0;
    let records: FileRecord[] = [];
    for (const { folder, entries } of this.#folders) {
      if (done + entries <= from) {
        done += entries;
        continue;
      }
      for (const entry of this.#entriesOf(folder)) {
        done += 1;
        if (done <= from) continue;
        records.push(this.#tell(folder, entry));
        if (records.length >= step) {
          yield { records, resume: done, done, total };
          records = [];
        }
      }
    }
    yield { records, resume: total, done: total, total };
  }

  #root(): Folder {
    const { rootAt, rootBytes, rootCluster, bits } = this.geometry;
    const runs =
      bits === 32 ? this.#stretches(this.#table.chain(rootCluster, this.#mostFolderClusters()).runs) : [{ at: rootAt, length: rootBytes }];
    return { path: "", deleted: false, depth: 0, runs, notes: [] };
  }

  #mostFolderClusters = () => Math.ceil(MAX_FOLDER_BYTES / this.geometry.clusterSize);

  #bytes(folder: Folder): Uint8Array {
    const length = Math.min(
      MAX_FOLDER_BYTES,
      folder.runs.reduce((sum, run) => sum + run.length, 0),
    );
    const bytes = new Uint8Array(length);
    let done = 0;
    for (const run of folder.runs) {
      const part = bytes.subarray(done, Math.min(length, done + run.length));
      this.volume.read(run.at, part);
      done += part.length;
    }
    return bytes;
  }

  #entriesOf(folder: Folder): readonly DirectoryEntry[] {
    return readDirectory(this.#bytes(folder), this.geometry.bits === 32).entries;
  }

  /** All folders, live and deleted, breadth first; and which clusters several deleted files claim. */
  #findFolders(): { folder: Folder; entries: number }[] {
    const found: { folder: Folder; entries: number }[] = [];
    const claims = new Uint8Array(this.geometry.clusters + 2);
    const seen = new Set<number>();
    const waiting: Folder[] = [this.#root()];
    for (let index = 0; index < waiting.length && found.length < MAX_FOLDERS; index += 1) {
      const folder = waiting[index] as Folder;
      const entries = this.#entriesOf(folder);
      found.push({ folder, entries: entries.length });
      for (const entry of entries) {
        const deleted = folder.deleted || entry.deleted;
        if (!entry.directory) {
          if (deleted)
            for (const run of this.#contiguous(entry))
              for (let c = run.first; c < run.first + run.count; c += 1) claims[c] = Math.min(2, (claims[c] as number) + 1);
          continue;
        }
        if (folder.depth >= MAX_DEPTH || seen.has(entry.firstCluster)) continue;
        const inside = deleted
          ? this.#deletedFolder(entry)
          : this.#stretches(this.#table.chain(entry.firstCluster, this.#mostFolderClusters()).runs);
        if (inside.length === 0) continue;
        seen.add(entry.firstCluster);
        waiting.push({ path: `${folder.path}/${entry.name}`, deleted, depth: folder.depth + 1, runs: inside, notes: [] });
      }
    }
    this.#claims = claims;
    return found;
  }

  /**
   * The clusters of a deleted folder. Its chain is gone; the first cluster proves itself by its first two entries, which name
   * the folder itself and the one above, and the next ones are taken as long as they are free and hold nothing but entries.
   */
  #deletedFolder(entry: DirectoryEntry): { at: number; length: number }[] {
    const { clusterSize, clusters, bits } = this.geometry;
    const first = entry.firstCluster;
    if (first < 2 || first >= clusters + 2) return [];
    const head = readBytes(this.volume, this.#clusterAt(first), 64);
    const view = new DataView(head.buffer);
    const own = view.getUint16(ENTRY.clusterLow, true) + (bits === 32 ? view.getUint16(ENTRY.clusterHigh, true) * 65_536 : 0);
    if (head[0] !== 0x2e || head[1] !== 0x20 || head[32] !== 0x2e || head[33] !== 0x2e || own !== first) return [];
    const runs = [{ at: this.#clusterAt(first), length: clusterSize }];
    for (let next = first + 1; next < clusters + 2 && runs.length < 4096; next += 1) {
      const before = readBytes(this.volume, this.#clusterAt(next - 1) + clusterSize - ENTRY.size, ENTRY.size);
      if (before[0] === ENTRY.endMark || this.#table.isUsed(next) || !this.#holdsEntries(next)) break;
      runs.push({ at: this.#clusterAt(next), length: clusterSize });
    }
    return runs;
  }

  /** Whether a cluster could go on with a folder's entries: each has attributes and a name that can be. */
  #holdsEntries(cluster: number): boolean {
    const bytes = readBytes(this.volume, this.#clusterAt(cluster), Math.min(this.geometry.clusterSize, 4096));
    const { entries } = readDirectory(bytes, this.geometry.bits === 32);
    const shown = bytes.findIndex((_, at) => at % ENTRY.size === 0 && bytes[at] === ENTRY.endMark);
    const slots = (shown < 0 ? bytes.length : shown) / ENTRY.size;
    return slots > 0 && entries.length > 0 && entries.length >= slots / 22;
  }

  #clusterAt = (cluster: number) => this.geometry.dataAt + (cluster - 2) * this.geometry.clusterSize;

  #stretches(runs: readonly ClusterRun[]): { at: number; length: number }[] {
    return runs.map((run) => ({ at: this.#clusterAt(run.first), length: run.count * this.geometry.clusterSize }));
  }

  /** The clusters a deleted file had if they followed one another. */
  #contiguous(entry: DirectoryEntry): ClusterRun[] {
    const { clusterSize, clusters } = this.geometry;
    const count = Math.ceil(entry.size / clusterSize);
    if (entry.firstCluster < 2 || entry.firstCluster >= clusters + 2 || count === 0) return [];
    return [{ first: entry.firstCluster, count: Math.min(count, clusters + 2 - entry.firstCluster) }];
  }

  /** The clusters a deleted file had if it was laid down around those in use now; null where that is the same as one stretch. */
  #aroundUsed(entry: DirectoryEntry): ClusterRun[] | null {
    const { clusterSize, clusters } = this.geometry;
    let left = Math.ceil(entry.size / clusterSize);
    const runs: { first: number; count: number }[] = [];
    for (let cluster = entry.firstCluster; left > 0 && cluster < clusters + 2; cluster += 1) {
      if (this.#table.isUsed(cluster)) continue;
      const last = runs[runs.length - 1];
      if (last && last.first + last.count === cluster) last.count += 1;
      else runs.push({ first: cluster, count: 1 });
      left -= 1;
    }
    return left === 0 && runs.length > 1 ? runs : null;
  }

  #layout(runs: readonly ClusterRun[], size: number): Layout {
    const segments = runs.map(
      (run): Segment => ({ kind: "disk", at: this.start + this.#clusterAt(run.first), length: run.count * this.geometry.clusterSize }),
    );
    return layoutOf(segments, size);
  }

  #tell(folder: Folder, entry: DirectoryEntry): FileRecord {
    const deleted = folder.deleted || entry.deleted;
    const place = entryPlace(folder, entry.at);
    const shared = {
      reference: `directory entry at byte ${this.start + place}`,
      state: deleted ? ("deleted" as const) : ("live" as const),
      type: entry.directory ? ("folder" as const) : ("file" as const),
      path: `${folder.path}/${entry.name}`,
      name: entry.name,
      rawName: entry.rawName,
      size: entry.size,
      created: entry.created,
      modified: entry.modified,
      changed: null,
      system: false,
      encrypted: false,
      streams: [],
      links: 1,
    };
    if (entry.directory) return { ...shared, layout: null, evidence: ALL_BYTES_THERE, notes: entry.notes };
    return deleted ? { ...shared, ...this.#deletedContent(entry) } : { ...shared, ...this.#liveContent(entry) };
  }

  #liveContent(entry: DirectoryEntry): Pick<FileRecord, "layout" | "evidence" | "notes"> {
    const clusters = Math.ceil(entry.size / this.geometry.clusterSize);
    if (clusters === 0) return { layout: layoutOf([], 0), evidence: ALL_BYTES_THERE, notes: entry.notes };
    const chain = this.#table.chain(entry.firstCluster, clusters);
    const lost = Math.max(0, entry.size - chain.clusters * this.geometry.clusterSize);
    const notes = chain.problem && lost > 0 ? [...entry.notes, `The file is shorter than it should be: ${chain.problem}.`] : entry.notes;
    return { layout: this.#layout(chain.runs, entry.size), evidence: { ...ALL_BYTES_THERE, lost }, notes };
  }

  #deletedContent(entry: DirectoryEntry): Pick<FileRecord, "layout" | "evidence" | "notes" | "assumed" | "otherwise"> {
    const runs = this.#contiguous(entry);
    if (entry.size === 0) return { layout: layoutOf([], 0), evidence: ALL_BYTES_THERE, notes: entry.notes };
    const layout = this.#layout(runs, entry.size);
    const around = this.#aroundUsed(entry);
    const several = entry.size > this.geometry.clusterSize;
    const contested = runs.some((run) => {
      for (let cluster = run.first; cluster < run.first + run.count; cluster += 1) if ((this.#claims?.[cluster] ?? 0) > 1) return true;
      return false;
    });
    const notes = [...entry.notes];
    if (several) notes.push("Its clusters are taken to follow one another: which they were is not recorded after deletion.");
    if (contested) notes.push("Another deleted file claims some of the same clusters.");
    return {
      layout,
      evidence: { ...ALL_BYTES_THERE, usedByOthers: this.#usedBytes(runs, entry.size), lost: lostBytes(layout) },
      notes,
      assumed: several || contested,
      ...(around
        ? {
            otherwise: {
              layout: this.#layout(around, entry.size),
              evidence: ALL_BYTES_THERE,
              note: "Its clusters are taken to lie around those that other files use now: which they were is not recorded after deletion.",
            },
          }
        : {}),
    };
  }

  /** Bytes of a file of this size that stand in clusters in use now. */
  #usedBytes(runs: readonly ClusterRun[], size: number): number {
    const { clusterSize } = this.geometry;
    let used = 0;
    let at = 0;
    for (const run of runs) {
      for (const range of this.allocation.usedWithin(run.first - 2, run.count)) {
        const from = at + (range.start - (run.first - 2)) * clusterSize;
        used += Math.max(0, Math.min(size, from + (range.end - range.start) * clusterSize) - from);
      }
      at += run.count * clusterSize;
    }
    return used;
  }
}

const lostBytes = (layout: Layout) => layout.segments.reduce((sum, segment) => sum + (segment.kind === "lost" ? segment.length : 0), 0);

/** Where an entry of a folder stands in the volume. */
function entryPlace(folder: Folder, at: number): number {
  let left = at;
  for (const run of folder.runs) {
    if (left < run.length) return run.at + left;
    left -= run.length;
  }
  return 0;
}

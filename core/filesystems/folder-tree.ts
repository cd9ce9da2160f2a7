import { type ByteSource, readBytes } from "../bytes/byte-source";
import { type Layout, layoutOf, type Segment } from "../bytes/layout";
import { RangeSet } from "../bytes/range-set";
import type { AllocationMap } from "./allocation-map";
import { ALL_BYTES_THERE, type FileRecord, type FileSystem, type RecordBatch } from "./file-record";

/** Folders deeper, larger or more than this are damage or an attack on memory. */
const MAX_DEPTH = 128;
const MAX_FOLDER_BYTES = 1 << 26;
const MAX_FOLDERS = 1_000_000;
const MAX_FOLDER_CLUSTERS = 4096;

/** A stretch of clusters that follow one another. */
export interface ClusterRun {
  readonly first: number;
  readonly count: number;
}

export interface Chain {
  readonly runs: readonly ClusterRun[];
  readonly clusters: number;
  /** What is wrong with it; null: it ends as it should. */
  readonly problem: string | null;
}

/**
 * Follows a chain of clusters, at most `most` long; they are numbered from 2.
 * @param next what the table says follows a cluster: another one, 0 for free, or a mark
 */
export function followChain(first: number, most: number, clusters: number, next: (cluster: number) => number | "end" | "bad"): Chain {
  const runs: { first: number; count: number }[] = [];
  let count = 0;
  for (let cluster = first; count < most; ) {
    if (cluster < 2 || cluster >= clusters + 2)
      return { runs, clusters: count, problem: `its chain leads to cluster ${cluster}, which does not exist` };
    const last = runs[runs.length - 1];
    if (last && last.first + last.count === cluster) last.count += 1;
    else runs.push({ first: cluster, count: 1 });
    count += 1;
    // A chain longer than the volume runs in a circle.
    if (count > clusters) return { runs: [], clusters: 0, problem: "its chain runs in a circle" };
    const following = next(cluster);
    if (following === "end") return { runs, clusters: count, problem: null };
    if (following === "bad") return { runs, clusters: count, problem: "its chain leads into a cluster marked bad" };
    if (following === 0) return { runs, clusters: count, problem: "its chain breaks off" };
    cluster = following;
  }
  return { runs, clusters: count, problem: null };
}

/** A file or folder as the entry in its folder tells it. */
export interface TreeEntry {
  readonly name: string;
  /** The name's bytes as stored. */
  readonly rawName: Uint8Array;
  readonly deleted: boolean;
  readonly directory: boolean;
  readonly firstCluster: number;
  /** Bytes; of a folder only where its entry tells. */
  readonly size: number;
  /** The entry itself says that the clusters follow one another. */
  readonly contiguous: boolean;
  /** Bytes past this read as zeros whatever stands there. */
  readonly validSize: number;
  readonly created: number | null;
  readonly modified: number | null;
  /** Offset of the entry in the folder's bytes. */
  readonly at: number;
  readonly notes: readonly string[];
}

/** Where clusters stand; they are numbered from 2. Offsets in the volume, bytes. */
export interface ClusterGeometry {
  readonly clusterSize: number;
  readonly clusters: number;
  /** Offset of cluster 2. */
  readonly dataAt: number;
}

/** A folder that was found, with where its entries stand. */
interface Folder {
  readonly path: string;
  readonly deleted: boolean;
  readonly depth: number;
  readonly runs: readonly { at: number; length: number }[];
}

/**
 * A volume whose files are told by entries in their folders (FAT, exFAT): walks the folders, the deleted ones too, and works
 * out where the content of each file stands or most likely stood.
 */
export abstract class FolderTree implements FileSystem {
  abstract readonly allocation: AllocationMap | null;
  abstract readonly label: string | null;
  abstract readonly notes: readonly string[];
  /** Clusters that more than one deleted file claims. */
  #contested = new RangeSet();
  #folders: { folder: Folder; entries: number }[] | undefined;

  constructor(
    protected readonly volume: ByteSource,
    private readonly start: number,
    private readonly clusterGeometry: ClusterGeometry,
  ) {}

  /** Where the root folder's entries stand. Offsets in the volume. */
  protected abstract rootRuns(): readonly { at: number; length: number }[];
  protected abstract entriesIn(bytes: Uint8Array): readonly TreeEntry[];
  /** The chain that begins at a cluster, at most `most` clusters long. */
  protected abstract chain(first: number, most: number): Chain;
  protected abstract isUsed(cluster: number): boolean;
  /** Whether a cluster is plainly the first one of this deleted folder. */
  protected abstract provesFolder(cluster: number): boolean;

  get clusterSize(): number {
    return this.clusterGeometry.clusterSize;
  }

  /** The map counts from cluster 2. */
  get allocationStart(): number {
    return this.start + this.clusterGeometry.dataAt;
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
    return { path: "", deleted: false, depth: 0, runs: this.rootRuns() };
  }

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

  #entriesOf(folder: Folder): readonly TreeEntry[] {
    return this.entriesIn(this.#bytes(folder));
  }

  /** All folders, live and deleted, breadth first; and which clusters several deleted files claim. */
  #findFolders(): { folder: Folder; entries: number }[] {
    const found: { folder: Folder; entries: number }[] = [];
    const claims: ClusterRun[] = [];
    const seen = new Set<number>();
    const waiting: Folder[] = [this.#root()];
    for (let index = 0; index < waiting.length && found.length < MAX_FOLDERS; index += 1) {
      const folder = waiting[index] as Folder;
      const entries = this.#entriesOf(folder);
      found.push({ folder, entries: entries.length });
      for (const entry of entries) {
        const deleted = folder.deleted || entry.deleted;
        if (!entry.directory) {
          if (deleted) claims.push(...this.#contiguous(entry));
          continue;
        }
        if (folder.depth >= MAX_DEPTH || seen.has(entry.firstCluster)) continue;
        const inside = deleted ? this.#deletedFolder(entry) : this.#stretches(this.#liveRuns(entry, MAX_FOLDER_BYTES).runs);
        if (inside.length === 0) continue;
        seen.add(entry.firstCluster);
        waiting.push({ path: `${folder.path}/${entry.name}`, deleted, depth: folder.depth + 1, runs: inside });
      }
    }
    this.#contested = overlaps(claims);
    return found;
  }

  /** The clusters of a live file or folder: as its entry says, or by its chain. */
  #liveRuns(entry: TreeEntry, most: number): Chain {
    if (!entry.contiguous) return this.chain(entry.firstCluster, Math.ceil(most / this.clusterSize));
    const runs = this.#contiguous(entry);
    return { runs, clusters: runs.reduce((sum, run) => sum + run.count, 0), problem: null };
  }

  /**
   * The clusters of a deleted folder. Unless its entry tells them, its chain is gone: the first cluster must prove itself, and
   * the next ones are taken as long as they are free and hold nothing but entries.
   */
  #deletedFolder(entry: TreeEntry): { at: number; length: number }[] {
    const { clusterSize, clusters } = this.clusterGeometry;
    const first = entry.firstCluster;
    if (first < 2 || first >= clusters + 2 || !this.provesFolder(first)) return [];
    if (entry.contiguous) return this.#stretches(this.#contiguous(entry)).slice(0, MAX_FOLDER_CLUSTERS);
    const runs = [{ at: this.clusterAt(first), length: clusterSize }];
    for (let next = first + 1; next < clusters + 2 && runs.length < MAX_FOLDER_CLUSTERS; next += 1) {
      // A folder ends where the first unused entry stands.
      const lastEntry = readBytes(this.volume, this.clusterAt(next) - 32, 32);
      if (lastEntry[0] === 0 || this.isUsed(next) || !this.#holdsEntries(next)) break;
      runs.push({ at: this.clusterAt(next), length: clusterSize });
    }
    return runs;
  }

  /** Whether a cluster could go on with a folder's entries: nearly all that is in it reads as such. */
  #holdsEntries(cluster: number): boolean {
    const bytes = readBytes(this.volume, this.clusterAt(cluster), Math.min(this.clusterSize, 4096));
    let slots = 0;
    while (slots * 32 < bytes.length && bytes[slots * 32] !== 0) slots += 1;
    const entries = this.entriesIn(bytes);
    // The longest name takes twenty slots beside its own.
    return entries.length > 0 && entries.length >= slots / 22;
  }

  /** Offset of a cluster in the volume. */
  protected clusterAt(cluster: number): number {
    return this.clusterGeometry.dataAt + (cluster - 2) * this.clusterSize;
  }

  #stretches(runs: readonly ClusterRun[]): { at: number; length: number }[] {
    return runs.map((run) => ({ at: this.clusterAt(run.first), length: run.count * this.clusterSize }));
  }

  /** The clusters a deleted file had if they followed one another. */
  #contiguous(entry: TreeEntry): ClusterRun[] {
    const { clusterSize, clusters } = this.clusterGeometry;
    const count = Math.ceil(entry.size / clusterSize);
    if (entry.firstCluster < 2 || entry.firstCluster >= clusters + 2 || count === 0) return [];
    return [{ first: entry.firstCluster, count: Math.min(count, clusters + 2 - entry.firstCluster) }];
  }

  /** The clusters a deleted file had if it was laid down around those in use now; null where that is the same as one stretch. */
  #aroundUsed(entry: TreeEntry): ClusterRun[] | null {
    const { clusterSize, clusters } = this.clusterGeometry;
    let left = Math.ceil(entry.size / clusterSize);
    const runs: { first: number; count: number }[] = [];
    // A file strewn over more than this many times its size is no longer a likely guess.
    const end = Math.min(clusters + 2, entry.firstCluster + left * 8 + 256);
    for (let cluster = entry.firstCluster; left > 0 && cluster < end; cluster += 1) {
      if (this.isUsed(cluster)) continue;
      const last = runs[runs.length - 1];
      if (last && last.first + last.count === cluster) last.count += 1;
      else runs.push({ first: cluster, count: 1 });
      left -= 1;
    }
    return left === 0 && runs.length > 1 ? runs : null;
  }

  #layout(runs: readonly ClusterRun[], { size, validSize }: TreeEntry): Layout {
    const segments = runs.map(
      (run): Segment => ({ kind: "disk", at: this.start + this.clusterAt(run.first), length: run.count * this.clusterSize }),
    );
    if (validSize >= size) return layoutOf(segments, size);
    const valid = layoutOf(segments, validSize);
    return layoutOf([...valid.segments, { kind: "hole", length: size - validSize }], size);
  }

  #tell(folder: Folder, entry: TreeEntry): FileRecord {
    const deleted = folder.deleted || entry.deleted;
    const place = entryPlace(folder, entry.at);
    const shared = {
      reference: `directory entry at byte ${this.start + place}`,
      state: deleted ? ("deleted" as const) : ("live" as const),
      type: entry.directory ? ("folder" as const) : ("file" as const),
      path: `${folder.path}/${entry.name}`,
      name: entry.name,
      rawName: entry.rawName,
      size: entry.directory ? 0 : entry.size,
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

  #liveContent(entry: TreeEntry): Pick<FileRecord, "layout" | "evidence" | "notes"> {
    if (entry.size === 0) return { layout: layoutOf([], 0), evidence: ALL_BYTES_THERE, notes: entry.notes };
    const chain = this.#liveRuns(entry, entry.size);
    const lost = Math.max(0, entry.size - chain.clusters * this.clusterSize);
    const notes =
      lost > 0
        ? [...entry.notes, `The file is shorter than it should be: ${chain.problem ?? "it would run past the end of the volume"}.`]
        : entry.notes;
    return { layout: this.#layout(chain.runs, entry), evidence: { ...ALL_BYTES_THERE, lost }, notes };
  }

  #deletedContent(entry: TreeEntry): Pick<FileRecord, "layout" | "evidence" | "notes" | "assumed" | "otherwise"> {
    if (entry.size === 0) return { layout: layoutOf([], 0), evidence: ALL_BYTES_THERE, notes: entry.notes };
    const runs = this.#contiguous(entry);
    const layout = this.#layout(runs, entry);
    const guessed = !entry.contiguous && entry.size > this.clusterSize;
    const contested = runs.some((run) => this.#contested.overlap(run.first, run.first + run.count) > 0);
    const around = guessed ? this.#aroundUsed(entry) : null;
    const notes = [...entry.notes];
    if (contested) notes.push("Another deleted file claims some of the same clusters.");
    if (guessed) notes.push("Its clusters are taken to follow one another: which they were is not recorded after deletion.");
    return {
      layout,
      evidence: { ...ALL_BYTES_THERE, usedByOthers: this.#usedBytes(runs, entry.size), lost: lostBytes(layout) },
      notes,
      assumed: guessed || contested,
      ...(around
        ? {
            otherwise: {
              layout: this.#layout(around, entry),
              evidence: ALL_BYTES_THERE,
              note: "Its clusters are taken to lie around those that other files use now: which they were is not recorded after deletion.",
            },
          }
        : {}),
    };
  }

  /** Bytes of a file of this size that stand in clusters in use now. */
  #usedBytes(runs: readonly ClusterRun[], size: number): number {
    const { clusterSize } = this.clusterGeometry;
    let used = 0;
    let at = 0;
    for (const run of runs) {
      for (const range of this.allocation?.usedWithin(run.first - 2, run.count) ?? []) {
        const from = at + (range.start - (run.first - 2)) * clusterSize;
        used += Math.max(0, Math.min(size, from + (range.end - range.start) * clusterSize) - from);
      }
      at += run.count * clusterSize;
    }
    return used;
  }
}

/** The clusters that more than one of the runs covers. */
function overlaps(runs: readonly ClusterRun[]): RangeSet {
  const found = new RangeSet();
  let covered = 0;
  for (const run of [...runs].sort((a, b) => a.first - b.first)) {
    const end = run.first + run.count;
    found.add(run.first, Math.min(covered, end));
    covered = Math.max(covered, end);
  }
  return found;
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

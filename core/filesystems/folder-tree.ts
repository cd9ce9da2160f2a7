import { type ByteSource, readBytes } from "../bytes/byte-source";
import { type Layout, layoutOf, type Segment } from "../bytes/layout";
import type { Range } from "../bytes/range-set";
import type { AllocationMap } from "./allocation-map";
import { DeletedClaims } from "./deleted-claims";
import { ALL_BYTES_THERE, type Alternative, type FileRecord, type FileSystem, type Finding, type RecordBatch } from "./file-record";
import { type FolderTrace, formerMap, type LostFolder, LostFolders } from "./lost-folders";
import { type LiveFile, treeFindings } from "./tree-findings";

/** Folders deeper, larger or more than this are damage or an attack on memory. */
const MAX_DEPTH = 128;
const MAX_FOLDER_BYTES = 1 << 26;
const MAX_FOLDERS = 1_000_000;
const MAX_FOLDER_CLUSTERS = 4096;
/** Places tried for one deleted file at most. */
const MOST_ALTERNATIVES = 64;

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
export interface Folder {
  readonly path: string;
  readonly deleted: boolean;
  readonly depth: number;
  readonly runs: readonly { at: number; length: number }[];
  /**
   * Nothing leads to it, and some of its files were not deleted: it lasted until the file system went. What had been deleted in it
   * before then may have been written over by files of which no trace is left.
   */
  readonly outlived?: boolean;
}

/**
 * A volume whose files are told by entries in their folders (FAT, exFAT): walks the folders, the deleted ones too, and works
 * out where the content of each file stands or most likely stood.
 */
export abstract class FolderTree implements FileSystem {
  abstract readonly allocation: AllocationMap | null;
  abstract readonly label: string | null;
  abstract readonly notes: readonly string[];
  #claims = new DeletedClaims();
  #folders: { folder: Folder; entries: number }[] | undefined;
  /** First clusters of all folders that entries lead to, with their paths. */
  readonly #reached = new Map<number, string>();

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
  /** What the beginning of a sector tells of a folder that begins there; null: none does. */
  protected abstract folderTrace(head: Uint8Array, at: number): FolderTrace | null;
  /** Other clusters at which a deleted entry may have begun, when the file system forgets a part of the number. */
  protected otherStarts(_entry: TreeEntry): number[] {
    return [];
  }

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

  /** Folders nothing leads to any more, of this file system or of one before it, and chains of clusters that belong to no file. */
  *readLeftovers(from: number, step: number, part: Range = { start: 0, end: this.volume.size }): Generator<RecordBatch, void, void> {
    this.#folders ??= this.#findFolders();
    const lost = new LostFolders({
      volume: this.volume,
      geometry: this.clusterGeometry,
      reached: this.#reached,
      trace: (head, at) => this.folderTrace(head, at),
      entriesAt: (runs) => this.entriesIn(this.#bytes({ runs })),
      goOn: (geometry, cluster) => this.#folderFrom(geometry, cluster),
    });
    const size = Math.min(part.end, this.volume.size) - part.start;
    for (const done of lost.scan(part)) if (done > from) yield { records: [], resume: done, done, total: size };
    const units: (() => FileRecord[])[] = [];
    for (const { geometry, folders } of lost.trees()) {
      const tree = this.#withGeometry(geometry);
      const claims = new DeletedClaims();
      for (const folder of folders)
        for (const entry of tree.#entriesOf(folder))
          if (!entry.directory) claims.add(tree.#contiguous(entry), entry.firstCluster, !entry.deleted);
      claims.settle();
      for (const folder of folders)
        units.push(() => {
          tree.#claims = claims;
          return [
            ...(folder.named ? [tree.#tellFolder(folder)] : []),
            ...tree.#entriesOf(folder).map((entry) => tree.#tell(folder, entry)),
          ];
        });
    }
    const whole = part.start === 0 && part.end >= this.volume.size;
    for (const chain of whole ? this.lostChains() : []) units.push(() => [this.#tellChain(chain)]);
    const total = size + units.length;
    for (let next = Math.max(0, from - size); next < units.length; ) {
      const records: FileRecord[] = [];
      for (; next < units.length && records.length < step; next += 1)
        records.push(...(units[next] as () => FileRecord[])().map((record) => ({ ...record, leftover: true })));
      yield { records, resume: size + next, done: size + next, total };
    }
    yield { records: [], resume: total, done: total, total };
  }

  findings(): Finding[] {
    this.#folders ??= this.#findFolders();
    return treeFindings(this.#liveFiles(), {
      clusters: this.clusterGeometry.clusters,
      clusterSize: this.clusterSize,
      map: this.allocation,
      bookkeeping: this.ownRuns(),
    });
  }

  /** Clusters the file system uses for itself. */
  protected ownRuns(): readonly ClusterRun[] {
    return [];
  }

  /** Chains that the table has in use and no folder leads to. */
  protected lostChains(): readonly Chain[] {
    return [];
  }

  /** All live files and folders with their clusters. */
  protected *liveClusters(): Generator<LiveFile, void, void> {
    this.#folders ??= this.#findFolders();
    yield* this.#liveFiles();
  }

  *#liveFiles(): Generator<LiveFile, void, void> {
    for (const { folder } of this.#folders ?? []) {
      if (folder.deleted) continue;
      for (const entry of this.#entriesOf(folder)) {
        if (entry.deleted) continue;
        const path = `${folder.path}/${entry.name}`;
        if (entry.directory) yield { path, size: null, chain: this.#liveRuns(entry, MAX_FOLDER_BYTES) };
        else if (entry.size > 0) yield { path, size: entry.size, chain: this.#liveRuns(entry, Number.MAX_SAFE_INTEGER) };
      }
    }
  }

  /** The same volume seen with the measures of the file system that was there before. */
  #withGeometry(geometry: ClusterGeometry): FolderTree {
    const own = this.clusterGeometry;
    if (geometry.clusterSize === own.clusterSize && geometry.dataAt === own.dataAt) return this;
    const entriesIn = (bytes: Uint8Array) => this.entriesIn(bytes);
    return new FormerTree(this.volume, this.start, geometry, entriesIn, formerMap(geometry, own, this.allocation));
  }

  /** A folder found by itself: the clusters it probably has. */
  #folderFrom(geometry: ClusterGeometry, first: number): { at: number; length: number }[] {
    return this.#withGeometry(geometry).#clustersOfFolder(first);
  }

  #tellFolder(folder: LostFolder): FileRecord {
    const name = folder.path.slice(folder.path.lastIndexOf("/") + 1);
    return {
      reference: `folder at byte ${this.start + (folder.runs[0]?.at ?? 0)}`,
      state: "deleted",
      type: "folder",
      path: folder.path,
      name,
      rawName: new Uint8Array(),
      size: 0,
      created: null,
      modified: null,
      changed: null,
      layout: null,
      evidence: ALL_BYTES_THERE,
      system: false,
      encrypted: false,
      streams: [],
      links: 1,
      notes: folder.notes,
    };
  }

  /** Clusters in use that no folder leads to, as a file of that many clusters. */
  #tellChain(chain: Chain): FileRecord {
    const first = chain.runs[0]?.first ?? 0;
    const name = `chain-${first}`;
    const size = chain.clusters * this.clusterSize;
    const segments = chain.runs.map(
      (run): Segment => ({ kind: "disk", at: this.start + this.clusterAt(run.first), length: run.count * this.clusterSize }),
    );
    return {
      reference: `chain of clusters from ${first} on`,
      state: "deleted",
      type: "file",
      path: `/?/${name}`,
      name,
      rawName: new Uint8Array(),
      size,
      created: null,
      modified: null,
      changed: null,
      layout: layoutOf(segments, size),
      evidence: ALL_BYTES_THERE,
      assumed: true,
      system: false,
      encrypted: false,
      streams: [],
      links: 1,
      notes: [
        "The volume's map has these clusters in use, but no folder leads to them: the name is lost, and the size is in whole clusters.",
      ],
    };
  }

  #root(): Folder {
    return { path: "", deleted: false, depth: 0, runs: this.rootRuns() };
  }

  #bytes(folder: Pick<Folder, "runs">): Uint8Array {
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
    const seen = new Set<number>();
    const waiting: Folder[] = [this.#root()];
    for (let index = 0; index < waiting.length && found.length < MAX_FOLDERS; index += 1) {
      const folder = waiting[index] as Folder;
      const entries = this.#entriesOf(folder);
      found.push({ folder, entries: entries.length });
      for (const entry of entries) {
        const deleted = folder.deleted || entry.deleted;
        if (!entry.directory) {
          if (deleted) this.#claims.add(this.#contiguous(entry), entry.firstCluster, !entry.deleted);
          continue;
        }
        if (folder.depth >= MAX_DEPTH || seen.has(entry.firstCluster)) continue;
        const inside = deleted ? this.#deletedFolder(entry) : this.#stretches(this.#liveRuns(entry, MAX_FOLDER_BYTES).runs);
        if (inside.length === 0) continue;
        seen.add(entry.firstCluster);
        this.#reached.set(entry.firstCluster, `${folder.path}/${entry.name}`);
        waiting.push({ path: `${folder.path}/${entry.name}`, deleted, depth: folder.depth + 1, runs: inside });
      }
    }
    this.#claims.settle();
    for (const run of this.rootRuns()) this.#reached.set(Math.floor((run.at - this.clusterGeometry.dataAt) / this.clusterSize) + 2, "");
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
    const { clusters } = this.clusterGeometry;
    const first = [entry.firstCluster, ...this.otherStarts(entry)].find(
      (each) => each >= 2 && each < clusters + 2 && this.provesFolder(each),
    );
    if (first === undefined) return [];
    if (entry.contiguous) return this.#stretches(this.#contiguous(entry)).slice(0, MAX_FOLDER_CLUSTERS);
    return this.#clustersOfFolder(first);
  }

  /** The first cluster of a folder whose chain is gone, and those after it as long as they go on with it. */
  #clustersOfFolder(first: number): { at: number; length: number }[] {
    const { clusterSize, clusters } = this.clusterGeometry;
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

  /** The clusters a deleted file had if it was laid down around those that `skip` passes over; null where that is the same as one stretch. */
  #around(entry: TreeEntry, skip: (cluster: number) => number): ClusterRun[] | null {
    const { clusterSize, clusters } = this.clusterGeometry;
    let left = Math.ceil(entry.size / clusterSize);
    const runs: { first: number; count: number }[] = [];
    // A file strewn over more than this many times its size is no longer a likely guess.
    const end = Math.min(clusters + 2, entry.firstCluster + left * 8 + 256);
    for (let cluster = entry.firstCluster; left > 0 && cluster < end; ) {
      const passed = skip(cluster);
      if (passed > 0) {
        cluster += passed;
        continue;
      }
      const last = runs[runs.length - 1];
      if (last && last.first + last.count === cluster) last.count += 1;
      else runs.push({ first: cluster, count: 1 });
      left -= 1;
      cluster += 1;
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
    return deleted
      ? { ...shared, ...this.#deletedContent(entry, folder.outlived === true && entry.deleted) }
      : { ...shared, ...this.#liveContent(entry) };
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

  #deletedContent(entry: TreeEntry, unsure: boolean): Pick<FileRecord, "layout" | "evidence" | "notes" | "assumed" | "otherwise"> {
    if (entry.size === 0) return { layout: layoutOf([], 0), evidence: ALL_BYTES_THERE, notes: entry.notes };
    const runs = this.#contiguous(entry);
    const layout = this.#layout(runs, entry);
    const guessed = !entry.contiguous && entry.size > this.clusterSize;
    const contested = runs.some((run) => this.#claims.contested(run));
    const notes = [...entry.notes];
    if (contested) notes.push("Another deleted file claims some of the same clusters.");
    if (guessed) notes.push("Its clusters are taken to follow one another: which they were is not recorded after deletion.");
    const otherwise = this.#alternatives(entry, guessed);
    return {
      layout,
      evidence: { ...ALL_BYTES_THERE, usedByOthers: this.#usedBytes(runs, entry.size), lost: lostBytes(layout) },
      notes,
      assumed: guessed || contested || unsure,
      ...(otherwise.length > 0 ? { otherwise } : {}),
    };
  }

  /** Where else the bytes of a deleted file may stand, the likeliest first. */
  #alternatives(entry: TreeEntry, guessed: boolean): Alternative[] {
    const found: Alternative[] = [];
    const add = (runs: ClusterRun[] | null, note: string) => {
      if (!runs || found.length >= MOST_ALTERNATIVES) return;
      const layout = this.#layout(runs, entry);
      const usedByOthers = this.#usedBytes(runs, entry.size);
      if (usedByOthers < entry.size) found.push({ layout, evidence: { ...ALL_BYTES_THERE, usedByOthers, lost: lostBytes(layout) }, note });
    };
    if (guessed) {
      const used = (cluster: number) => (this.isUsed(cluster) ? 1 : 0);
      const claimed = (livedOn: boolean) => (cluster: number) =>
        used(cluster) || (cluster === entry.firstCluster ? 0 : this.#claims.startingAt(cluster, livedOn));
      add(
        this.#around(entry, used),
        "Its clusters are taken to lie around those that other files use now: which they were is not recorded after deletion.",
      );
      for (const livedOn of [true, false])
        add(
          this.#around(entry, claimed(livedOn)),
          "Its clusters are taken to lie around those of the other files that begin among them: which they were is not recorded after deletion.",
        );
    }
    for (const firstCluster of this.otherStarts(entry))
      add(
        this.#contiguous({ ...entry, firstCluster }),
        `A part of its first cluster's number is gone with the deletion; it is taken to have begun at cluster ${firstCluster}.`,
      );
    return found;
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

/** The tree of a file system that was there before: only its folders and the measures of its clusters are known. */
class FormerTree extends FolderTree {
  readonly label = null;
  readonly notes = [];

  constructor(
    volume: ByteSource,
    start: number,
    geometry: ClusterGeometry,
    private readonly read: (bytes: Uint8Array) => readonly TreeEntry[],
    readonly allocation: AllocationMap | null,
  ) {
    super(volume, start, geometry);
  }

  protected rootRuns() {
    return [];
  }

  protected entriesIn(bytes: Uint8Array) {
    return this.read(bytes);
  }

  protected chain(): Chain {
    return { runs: [], clusters: 0, problem: "its table of clusters is gone" };
  }

  protected isUsed(cluster: number) {
    return this.allocation?.isUsed(cluster - 2) ?? false;
  }

  protected provesFolder() {
    return false;
  }

  protected folderTrace() {
    return null;
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

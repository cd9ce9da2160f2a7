import type { ByteSource } from "../bytes/byte-source";
import { type Checkpoint, numberCheckpoint, readNumberCheckpoint } from "../bytes/checkpoint";
import type { Range } from "../bytes/range-set";
import type { AllocationMap } from "./allocation-map";
import type { Chain, ClusterGeometry, ClusterRun } from "./cluster-chain";
import { DeletedClaims } from "./deleted-claims";
import { type ClusterSpace, EntryReader } from "./entry-reader";
import type { FileRecord, FileSystem, Finding, RecordBatch } from "./file-record";
import { type Folder, folderBytes, MAX_FOLDER_BYTES, type TreeEntry } from "./folder-entry";
import type { FolderTrace } from "./folder-measures";
import { Ground } from "./ground";
import type { Leftovers } from "./leftovers";
import { type LiveFile, treeFindings } from "./tree-findings";
import { type EntryForm, TreeLeftovers } from "./tree-leftovers";

/** Folders deeper or more than this are damage or an attack on memory. */
const MAX_DEPTH = 128;
const MAX_FOLDERS = 1_000_000;
const MAX_FOLDER_CLUSTERS = 4096;

/**
 * A volume whose files are described by entries in their folders (FAT, exFAT): walks the folders, the deleted ones too, and works
 * out where the content of each file stands or most likely stood.
 */
export abstract class FolderTree implements FileSystem {
  abstract readonly allocation: AllocationMap | null;
  abstract readonly label: string | null;
  abstract readonly notes: readonly string[];
  readonly #claims = new DeletedClaims();
  readonly #space: ClusterSpace;
  readonly #reader: EntryReader;
  #folders: { folder: Folder; entries: number }[] | undefined;
  /** First clusters of all folders that entries lead to, with their paths. */
  readonly #reached = new Map<number, string>();
  /** Where the clusters of deleted folders begin: offsets in the volume. */
  readonly #covered = new Set<number>();
  /** What folders are called whose names are not in full, where another one beside them would be called the same; by first cluster. */
  readonly #foundNames = new Map<number, string>();

  constructor(
    protected readonly volume: ByteSource,
    private readonly start: number,
    private readonly clusterGeometry: ClusterGeometry,
  ) {
    const allocation = () => this.allocation;
    this.#space = {
      volume,
      start,
      geometry: clusterGeometry,
      // The map is opened after this.
      get map() {
        return allocation();
      },
      isUsed: (cluster) => this.isUsed(cluster),
      chain: (first, most) => this.chain(first, most),
      otherStarts: (entry) => this.otherStarts(entry),
      entriesIn: (bytes) => this.entriesIn(bytes),
      goesOn: (bytes) => this.goesOn(bytes),
    };
    this.#reader = new EntryReader(this.#space, this.#claims);
  }

  /** Where the root folder's entries stand. Offsets in the volume. */
  protected abstract rootRuns(): readonly { at: number; length: number }[];
  protected abstract entriesIn(bytes: Uint8Array): readonly TreeEntry[];
  /** Whether a cluster, or its beginning, could go on with a folder: nearly all that is in it reads as entries. */
  protected abstract goesOn(bytes: Uint8Array): boolean;
  /** The chain that begins at a cluster, at most `most` clusters long. */
  protected abstract chain(first: number, most: number): Chain;
  protected abstract isUsed(cluster: number): boolean;
  /** Whether a cluster is plainly the first one of this deleted folder. */
  protected abstract provesFolder(cluster: number): boolean;
  /** The folder that begins in a sector, by its first entries; null: none does. */
  protected abstract folderTrace(head: Uint8Array, at: number): FolderTrace | null;
  /** The first byte of a folder; undefined: any. */
  protected folderBegins(): readonly number[] | undefined {
    return undefined;
  }
  /** Where the root of a former file system of such measures may stand; see `EntryForm`. */
  protected rootsOf(_former: ClusterGeometry): ReturnType<NonNullable<EntryForm["rootsOf"]>> {
    return [];
  }
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

  *readRecords(from: Checkpoint | null, step: number): Generator<RecordBatch, void, void> {
    this.#folders ??= this.#findFolders();
    const total = this.#folders.reduce((sum, each) => sum + each.entries, 0);
    const given = readNumberCheckpoint(from);
    let done = 0;
    let records: FileRecord[] = [];
    for (const { folder, entries } of this.#folders) {
      if (done + entries <= given) {
        done += entries;
        continue;
      }
      for (const entry of this.#entriesOf(folder)) {
        done += 1;
        if (done <= given) continue;
        records.push(this.#reader.toFileRecord(folder, this.#withFoundName(entry)));
        if (records.length >= step) {
          yield { records, resume: numberCheckpoint(done), done, total };
          records = [];
        }
      }
    }
    yield { records, resume: numberCheckpoint(total), done: total, total };
  }

  leftovers(part: Range): Leftovers {
    this.#folders ??= this.#findFolders();
    const { volume, start, clusterGeometry, allocation } = this;
    const firstBytes = this.folderBegins();
    // A chain has no place of its own in a part: only the whole volume can say which ones are lost.
    const whole = part.start === 0 && part.end >= volume.size;
    const present = {
      space: this.#space,
      geometry: clusterGeometry,
      claims: this.#claims,
      reached: this.#reached,
      covered: this.#covered,
      lostChains: () => (whole ? this.lostChains() : []),
    };
    const ground = new Ground(volume, start, volume, { allocation, allocationStart: this.allocationStart, clusterSize: this.clusterSize });
    const map = (former: ClusterGeometry) => ground.map(former.clusterSize, former.dataAt, former.clusters);
    return {
      volume,
      start,
      scans: [
        new TreeLeftovers(
          { volume, start, present, map },
          {
            ...(firstBytes ? { firstBytes } : {}),
            trace: (head, at) => this.folderTrace(head, at),
            entriesIn: (bytes) => this.entriesIn(bytes),
            goesOn: (bytes) => this.goesOn(bytes),
            rootsOf: (former) => this.rootsOf(former),
          },
        ),
      ],
    };
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

  /** A byte for each cluster, 1 where it belongs to the file system itself, or to a live file or folder; cluster 2 is at 2. */
  protected ownedClusters(): Uint8Array {
    this.#folders ??= this.#findFolders();
    const owned = new Uint8Array(this.clusterGeometry.clusters + 2);
    const mark = (run: ClusterRun) => owned.fill(1, run.first, run.first + run.count);
    this.ownRuns().forEach(mark);
    for (const { chain } of this.#liveFiles()) chain.runs.forEach(mark);
    return owned;
  }

  *#liveFiles(): Generator<LiveFile, void, void> {
    for (const { folder } of this.#folders ?? []) {
      if (folder.deleted) continue;
      for (const entry of this.#entriesOf(folder)) {
        if (entry.deleted) continue;
        const path = `${folder.path}/${entry.name}`;
        if (entry.directory) yield { path, size: null, chain: this.#reader.liveRuns(entry, MAX_FOLDER_BYTES) };
        else if (entry.size > 0) yield { path, size: entry.size, chain: this.#reader.liveRuns(entry, Number.MAX_SAFE_INTEGER) };
      }
    }
  }

  /** Offset of a cluster in the volume. */
  protected clusterAt(cluster: number): number {
    return this.#reader.clusterAt(cluster);
  }

  #entriesOf(folder: Folder): readonly TreeEntry[] {
    return this.entriesIn(folderBytes(this.volume, folder.runs));
  }

  /**
   * All folders, breadth first, the live ones before the deleted ones; and which clusters several deleted files claim. A folder that was renamed
   * or moved is still named by its former entry: it is the live one.
   */
  #findFolders(): { folder: Folder; entries: number }[] {
    const found: { folder: Folder; entries: number }[] = [];
    const seen = new Set<number>();
    const taken = new Set<string>();
    const live: Folder[] = [{ path: "", deleted: false, depth: 0, runs: this.rootRuns() }];
    // By first cluster: of several entries that name one the first counts, and a hostile volume has no more of them than clusters.
    const deleted = new Map<number, { in: Folder; entry: TreeEntry }>();
    const look = (folder: Folder) => {
      const entries = this.#entriesOf(folder);
      found.push({ folder, entries: entries.length });
      for (const entry of entries) {
        const gone = folder.deleted || entry.deleted;
        if (entry.directory && !gone) {
          const inside = this.#enter(folder, entry, seen, taken);
          if (inside) live.push(inside);
        } else if (entry.directory) {
          if (!seen.has(entry.firstCluster) && !deleted.has(entry.firstCluster) && this.#deletedFolder(entry).length > 0)
            deleted.set(entry.firstCluster, { in: folder, entry });
        } else if (gone) this.#claims.add(this.#reader.contiguous(entry), entry.firstCluster, !entry.deleted);
      }
    };
    for (let next = 0; next < live.length && found.length < MAX_FOLDERS; next += 1) look(live[next] as Folder);
    // What is added on the way is gone through too.
    for (const each of deleted.values()) {
      if (found.length >= MAX_FOLDERS) break;
      const inside = this.#enter(each.in, each.entry, seen, taken);
      if (inside) look(inside);
    }
    this.#claims.settle();
    for (const run of this.rootRuns()) this.#reached.set(Math.floor((run.at - this.clusterGeometry.dataAt) / this.clusterSize) + 2, "");
    return found;
  }

  /** The folder an entry leads to; null: there is none, it lies too deep, or it has been entered. */
  #enter(folder: Folder, entry: TreeEntry, seen: Set<number>, taken: Set<string>): Folder | null {
    if (folder.depth >= MAX_DEPTH || seen.has(entry.firstCluster)) return null;
    const deleted = folder.deleted || entry.deleted;
    const runs = deleted ? this.#deletedFolder(entry) : this.#reader.stretches(this.#reader.liveRuns(entry, MAX_FOLDER_BYTES).runs);
    if (runs.length === 0) return null;
    seen.add(entry.firstCluster);
    const path = this.#folderPath(folder, entry, taken);
    this.#reached.set(entry.firstCluster, path);
    if (deleted) for (const { at } of runs) this.#covered.add(at);
    return { path, deleted, depth: folder.depth + 1, runs };
  }

  /** The path of a folder. Two whose first letters are lost may look alike: they stay two, and the later one gets a number. */
  #folderPath(folder: Folder, entry: TreeEntry, taken: Set<string>): string {
    let path = `${folder.path}/${entry.name}`;
    for (let number = 2; entry.incompleteName && taken.has(path); number += 1) path = `${folder.path}/${entry.name} (${number})`;
    taken.add(path);
    if (path !== `${folder.path}/${entry.name}`) this.#foundNames.set(entry.firstCluster, path.slice(folder.path.length + 1));
    return path;
  }

  #withFoundName(entry: TreeEntry): TreeEntry {
    const name = entry.directory ? this.#foundNames.get(entry.firstCluster) : undefined;
    return name === undefined ? entry : { ...entry, name };
  }

  /**
   * The clusters of a deleted folder. Unless its entry gives them, its chain is gone: the first cluster must prove itself, and
   * the next ones are taken as long as they are free and hold nothing but entries.
   */
  #deletedFolder(entry: TreeEntry): { at: number; length: number }[] {
    const { clusters } = this.clusterGeometry;
    const first = [entry.firstCluster, ...this.otherStarts(entry)].find(
      (each) => each >= 2 && each < clusters + 2 && this.provesFolder(each),
    );
    if (first === undefined) return [];
    if (entry.contiguous) return this.#reader.stretches(this.#reader.contiguous(entry)).slice(0, MAX_FOLDER_CLUSTERS);
    return this.#reader.clustersOfFolder(first);
  }
}

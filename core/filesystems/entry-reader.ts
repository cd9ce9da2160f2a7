import { type ByteSource, readBytes } from "../bytes/byte-source";
import { type Layout, layoutOf, type Segment } from "../bytes/layout";
import { RangeSet } from "../bytes/range-set";
import type { UsedMap } from "./allocation-map";
import type { Chain, ClusterGeometry, ClusterRun } from "./cluster-chain";
import type { DeletedClaims } from "./deleted-claims";
import { ALL_BYTES_THERE, type ByteEvidence, type Content, EMPTIED, type FileRecord, NO_CONTENT, type Placed, placed } from "./file-record";
import { entryPlace, type Folder, type TreeEntry } from "./folder-entry";

const MAX_FOLDER_CLUSTERS = 4096;
/** Places tried for one deleted file at most. */
const MOST_ALTERNATIVES = 64;

/** The clusters that entries speak of, and what the file system's tables say of them. */
export interface ClusterSpace {
  readonly volume: ByteSource;
  /** Disk byte offset of the volume. */
  readonly start: number;
  readonly geometry: ClusterGeometry;
  /** Which clusters are in use; its cluster 0 is the volume's cluster 2. */
  readonly map: UsedMap | null;
  isUsed(cluster: number): boolean;
  /** The chain that begins at a cluster, at most `most` clusters long. */
  chain(first: number, most: number): Chain;
  /** Other clusters at which a deleted entry may have begun, when the file system forgets a part of the number. */
  otherStarts(entry: TreeEntry): number[];
  entriesIn(bytes: Uint8Array): readonly TreeEntry[];
  /** Whether a cluster, or its beginning, could go on with a folder: nearly all that is in it reads as entries. */
  goesOn(bytes: Uint8Array): boolean;
}

/** Turns folder entries into file records: where the content of each file stands, or most likely stood. */
export class EntryReader {
  constructor(
    private readonly space: ClusterSpace,
    private readonly claims: DeletedClaims,
  ) {}

  private get clusterSize(): number {
    return this.space.geometry.clusterSize;
  }

  /** Offset of a cluster in the volume. */
  clusterAt(cluster: number): number {
    return this.space.geometry.dataAt + (cluster - 2) * this.clusterSize;
  }

  stretches(runs: readonly ClusterRun[]): { at: number; length: number }[] {
    return runs.map((run) => ({ at: this.clusterAt(run.first), length: run.count * this.clusterSize }));
  }

  /** The clusters of a live file or folder: as its entry says, or by its chain. */
  liveRuns(entry: TreeEntry, most: number): Chain {
    if (!entry.contiguous) return this.space.chain(entry.firstCluster, Math.ceil(most / this.clusterSize));
    const runs = this.contiguous(entry);
    return { runs, clusters: runs.reduce((sum, run) => sum + run.count, 0), problem: null };
  }

  /** The first cluster of a folder whose chain is gone, and those after it as long as they go on with it. */
  clustersOfFolder(first: number): { at: number; length: number }[] {
    const { clusterSize, clusters } = this.space.geometry;
    const runs = [{ at: this.clusterAt(first), length: clusterSize }];
    for (let next = first + 1; next < clusters + 2 && runs.length < MAX_FOLDER_CLUSTERS; next += 1) {
      // A folder ends where the first unused entry stands.
      const lastEntry = readBytes(this.space.volume, this.clusterAt(next) - 32, 32);
      if (lastEntry[0] === 0 || this.space.isUsed(next) || !this.#holdsEntries(next)) break;
      runs.push({ at: this.clusterAt(next), length: clusterSize });
    }
    return runs;
  }

  #holdsEntries(cluster: number): boolean {
    return this.space.goesOn(readBytes(this.space.volume, this.clusterAt(cluster), Math.min(this.clusterSize, 4096)));
  }

  /** The clusters a deleted file had if they followed one another. */
  contiguous(entry: TreeEntry): ClusterRun[] {
    const { clusterSize, clusters } = this.space.geometry;
    const count = Math.ceil(entry.size / clusterSize);
    if (entry.firstCluster < 2 || entry.firstCluster >= clusters + 2 || count === 0) return [];
    return [{ first: entry.firstCluster, count: Math.min(count, clusters + 2 - entry.firstCluster) }];
  }

  /** The clusters a deleted file had if it was laid down around those that `skip` passes over; null where that is the same as one stretch. */
  #around(entry: TreeEntry, skip: (cluster: number) => number): ClusterRun[] | null {
    const { clusterSize, clusters } = this.space.geometry;
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
      (run): Segment => ({ kind: "disk", at: this.space.start + this.clusterAt(run.first), length: run.count * this.clusterSize }),
    );
    if (validSize >= size) return layoutOf(segments, size);
    const valid = layoutOf(segments, validSize);
    return layoutOf([...valid.segments, { kind: "hole", length: size - validSize }], size);
  }

  toFileRecord(folder: Folder, entry: TreeEntry): FileRecord {
    const deleted = folder.deleted || entry.deleted;
    const place = entryPlace(folder, entry.at);
    const { content, notes } = entry.directory
      ? { content: NO_CONTENT, notes: entry.notes }
      : deleted
        ? this.#deletedContent(entry, folder.guessed ? GUESSED : folder.lost && entry.deleted ? DELETED_BEFORE : null)
        : this.#liveContent(entry);
    // Field by field: spreading objects costs more than all the rest, and entries come by the hundred thousand.
    const record: FileRecord = {
      reference: `directory entry at byte ${this.space.start + place}`,
      state: deleted ? "deleted" : "live",
      type: entry.directory ? "folder" : "file",
      path: `${folder.path}/${entry.name}`,
      name: entry.name,
      rawName: entry.rawName,
      size: entry.directory ? 0 : entry.size,
      created: entry.created,
      modified: entry.modified,
      changed: null,
      content,
      system: false,
      streams: NO_STREAMS,
      links: 1,
      marks: entry.marks,
      notes,
    };
    if (!entry.localTimes && !entry.incompleteName) return record;
    return {
      ...record,
      ...(entry.localTimes ? { localTimes: true } : {}),
      ...(entry.incompleteName ? { incompleteName: true } : {}),
    };
  }

  #liveContent(entry: TreeEntry): NotedContent {
    if (entry.size === 0) return { content: EMPTY, notes: entry.notes };
    const chain = this.liveRuns(entry, entry.size);
    const lost = Math.max(0, entry.size - chain.clusters * this.clusterSize);
    const notes =
      lost > 0
        ? [...entry.notes, `The file is shorter than it should be: ${chain.problem ?? "it would run past the end of the volume"}.`]
        : entry.notes;
    return { content: placed(this.#layout(chain.runs, entry), lost > 0 ? { ...ALL_BYTES_THERE, lost } : ALL_BYTES_THERE), notes };
  }

  /** @param unsure why nothing but the content can prove itself; null: the entry may do */
  #deletedContent(entry: TreeEntry, unsure: string | null): NotedContent {
    if (entry.size === 0) return { content: EMPTIED, notes: entry.notes };
    const runs = this.contiguous(entry);
    const layout = this.#layout(runs, entry);
    const guessed = !entry.contiguous && entry.size > this.clusterSize;
    const contested = runs.some((run) => this.claims.contested(run));
    const likeliest: Placed = {
      layout,
      evidence: this.#evidence(runs, entry.size, layout),
      sure: !(guessed || contested || unsure !== null),
      ...(guessed ? { note: "Its clusters are taken to follow one another: which they were is not recorded after deletion." } : {}),
    };
    const notes = [
      ...entry.notes,
      ...(contested ? ["Another deleted file claims some of the same clusters."] : []),
      ...(unsure === null ? [] : [unsure]),
    ];
    return { content: { kind: "placed", likeliest, others: this.#alternatives(entry, guessed) }, notes };
  }

  /** Where else the bytes of a deleted file may stand, the likeliest first. */
  #alternatives(entry: TreeEntry, guessed: boolean): Placed[] {
    const found: Placed[] = [];
    const add = (runs: ClusterRun[] | null, note: string) => {
      if (!runs || found.length >= MOST_ALTERNATIVES) return;
      const layout = this.#layout(runs, entry);
      const evidence = this.#evidence(runs, entry.size, layout);
      if (evidence.usedByOthers < entry.size) found.push({ layout, evidence, sure: false, note });
    };
    if (guessed) {
      const used = (cluster: number) => (this.space.isUsed(cluster) ? 1 : 0);
      const claimed = (livedOn: boolean) => (cluster: number) =>
        used(cluster) || (cluster === entry.firstCluster ? 0 : this.claims.startingAt(cluster, livedOn));
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
    for (const firstCluster of this.space.otherStarts(entry))
      add(
        this.contiguous({ ...entry, firstCluster }),
        `A part of its first cluster's number is gone with the deletion; it is taken to have begun at cluster ${firstCluster}.`,
      );
    return found;
  }

  /** What of a file of this size stands in clusters in use now, and what has no place. */
  #evidence(runs: readonly ClusterRun[], size: number, layout: Layout): ByteEvidence {
    const { clusterSize } = this.space.geometry;
    const foreign = new RangeSet();
    let usedByOthers = 0;
    let at = 0;
    for (const run of runs) {
      for (const range of this.space.map?.usedWithin(run.first - 2, run.count) ?? []) {
        const from = at + (range.start - (run.first - 2)) * clusterSize;
        const length = Math.max(0, Math.min(size, from + (range.end - range.start) * clusterSize) - from);
        const disk = this.space.start + this.clusterAt(range.start + 2);
        usedByOthers += length;
        foreign.add(disk, disk + length);
      }
      at += run.count * clusterSize;
    }
    return { usedByOthers, takenLater: 0, lost: lostBytes(layout), foreign: foreign.ranges };
  }
}

const DELETED_BEFORE = "It was deleted before its folder was lost: files of which no trace is left may have been written over it.";
const GUESSED =
  "How large the clusters were that its folder counts in, and where they began, is worked out from what folders say of one another.";

interface NotedContent {
  readonly content: Content;
  readonly notes: readonly string[];
}
const EMPTY = placed(layoutOf([], 0));
const NO_STREAMS: FileRecord["streams"] = [];

const lostBytes = (layout: Layout) => layout.segments.reduce((sum, segment) => sum + (segment.kind === "lost" ? segment.length : 0), 0);

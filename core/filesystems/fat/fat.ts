import { type ByteSource, readBytes, WindowSource } from "../../bytes/byte-source";
import { Cursor } from "../../bytes/cursor";
import type { AllocationMap } from "../allocation-map";
import type { Chain, ClusterGeometry, ClusterRun } from "../cluster-chain";
import type { FileSystem } from "../file-record";
import type { TreeEntry } from "../folder-entry";
import type { FolderTrace } from "../folder-measures";
import { FolderTree } from "../folder-tree";
import type { Ground } from "../ground";
import type { LeftoverScan } from "../leftovers";
import { formerTree } from "../tree-leftovers";
import { mayBeSlot, readDirectory } from "./directory";
import { FatTable } from "./fat-table";
import { type FatGeometry, readGeometry } from "./geometry";
import { ATTRIBUTE, ENTRY } from "./layout";

/** The root folder of FAT32 is a chain as any other; it never has more than this many clusters. */
const MAX_ROOT_CLUSTERS = 65_536;
/** Slots in use that a cluster must have to be taken for a part of a folder by itself; so many entries, where none has a long name. */
const FEWEST_SLOTS = 4;
/** One slot in so many may hold what no folder does, in a cluster that is taken for a part of one. */
const MOST_REFUSED = 16;
/** Values of the lost half of a cluster's number tried at most. */
const MOST_STARTS = 48;

/**
 * Opens a FAT12, FAT16 or FAT32 volume.
 * @param disk the whole disk: all offsets in records and layouts count from its first byte
 * @throws FileSystemError when neither the boot sector nor its copy can be followed
 */
export function openFat(disk: ByteSource, start: number, length: number): FileSystem {
  const volume = new WindowSource(disk, start, length);
  return new FatVolume(volume, start, readGeometry(volume));
}

class FatVolume extends FolderTree {
  readonly allocation: AllocationMap;
  readonly localTimes = true;
  readonly label: string | null;
  readonly notes: readonly string[];
  readonly #table: FatTable;
  #keepsUpper = false;

  constructor(
    volume: ByteSource,
    start: number,
    private readonly geometry: FatGeometry,
  ) {
    super(volume, start, geometry);
    this.#table = new FatTable(volume, geometry);
    this.allocation = this.#table.allocation();
    this.label = this.rootRuns().reduce<string | null>(
      (label, run) => label ?? readDirectory(readBytes(volume, run.at, Math.min(run.length, 1 << 20)), this.#wide).label,
      null,
    );
    this.notes = [
      ...geometry.notes,
      ...this.#table.notes,
      "Times on this volume are local times of the device that wrote them, without a zone.",
    ];
  }

  get #wide(): boolean {
    return this.geometry.bits === 32;
  }

  protected rootRuns(): { at: number; length: number }[] {
    const { rootAt, rootBytes, rootCluster, clusterSize } = this.geometry;
    if (!this.#wide) return [{ at: rootAt, length: rootBytes }];
    return this.#table
      .chain(rootCluster, MAX_ROOT_CLUSTERS)
      .runs.map((run) => ({ at: this.clusterAt(run.first), length: run.count * clusterSize }));
  }

  protected entriesIn(bytes: Uint8Array): readonly TreeEntry[] {
    const { entries } = readDirectory(bytes, this.#wide);
    this.#keepsUpper ||= entries.some((entry) => entry.deleted && entry.firstCluster >= 65_536);
    return entries;
  }

  protected goesOn(bytes: Uint8Array): boolean {
    return goesOn(bytes, this.#wide);
  }

  protected chain(first: number, most: number): Chain {
    return this.#table.chain(first, most);
  }

  protected isUsed(cluster: number): boolean {
    return this.#table.isUsed(cluster);
  }

  /** A folder's first two entries name itself and the one above. */
  protected provesFolder(cluster: number): boolean {
    const trace = this.folderTrace(readBytes(this.volume, this.clusterAt(cluster), 64), this.clusterAt(cluster));
    return trace?.cluster === cluster && !trace.isPart;
  }

  protected folderTrace(head: Uint8Array, at: number): FolderTrace | null {
    return beginsFolder(head) ? folderBeginning(head, this.#wide) : this.#partTrace(head, at);
  }

  /** A cluster with which a deleted folder went on: its chain is gone, and all that stands in it are entries. */
  #partTrace(head: Uint8Array, at: number): FolderTrace | null {
    const { dataAt, clusterSize, clusters } = this.geometry;
    const cluster = (at - dataAt) / clusterSize + 2;
    if (!Number.isInteger(cluster) || cluster < 2 || cluster >= clusters + 2 || !beginsWithEntries(head) || this.isUsed(cluster))
      return null;
    const { entries, slots, refused } = readDirectory(head.subarray(0, clusterSize), this.#wide);
    if (refused > 0 || slots < FEWEST_SLOTS || entries.length === 0) return null;
    const sound = (entry: TreeEntry) =>
      entry.modified !== null && entry.firstCluster < clusters + 2 && entry.firstCluster !== 1 && entry.size <= this.volume.size;
    const tied = entries.filter((entry) => !entry.incompleteName).length;
    return entries.every(sound) && (tied > 0 || entries.length >= FEWEST_SLOTS) ? { cluster, parent: null, isPart: true } : null;
  }

  /**
   * Some systems clear the upper half of a deleted entry's first cluster: on a large FAT32 volume each value of it is tried,
   * unless a deleted entry that kept its upper half shows that this volume's writer does not.
   */
  protected override otherStarts(entry: TreeEntry): number[] {
    if (!this.#wide || this.#keepsUpper || !entry.deleted || entry.firstCluster >= 65_536 || entry.firstCluster === 0) return [];
    const starts: number[] = [];
    for (let start = entry.firstCluster + 65_536; start < this.geometry.clusters + 2 && starts.length < MOST_STARTS; start += 65_536)
      if (!this.isUsed(start)) starts.push(start);
    return starts;
  }

  protected override rootsOf(former: ClusterGeometry) {
    return rootsOf(former);
  }

  protected override ownRuns(): ClusterRun[] {
    const chained = this.#wide ? this.#table.chain(this.geometry.rootCluster, MAX_ROOT_CLUSTERS).runs : [];
    return [...chained, ...this.#table.badClusters()];
  }

  protected override lostChains(): readonly Chain[] {
    return this.#table.chainsOutside(this.ownedClusters()).filter((chain) => !this.provesFolder(chain.runs[0]?.first ?? 0));
  }
}

/** Whether the first two slots are called as those of a folder are: itself, and the one above. */
const beginsFolder = (head: Uint8Array) =>
  head[0] === 0x2e && head[1] === 0x20 && head[32] === 0x2e && head[33] === 0x2e && head[34] === 0x20;

/** A folder by its first two slots. @param wide clusters have 32 bits */
function folderBeginning(head: Uint8Array, wide: boolean): FolderTrace | null {
  const view = new Cursor(head);
  const number = (at: number) => view.u16(at + ENTRY.clusterLow) + (wide ? view.u16(at + ENTRY.clusterHigh) * 65_536 : 0);
  const folders = [0, 32].every((at) => (view.u8(at + ENTRY.attributes) & ATTRIBUTE.directory) !== 0);
  const cluster = number(0);
  return folders && cluster >= 2 ? { cluster, parent: number(32) } : null;
}

/** Entries of a root that has a place of its own, as volumes of one size and another have them (common practice; FAT12 and FAT16). */
const ROOT_ENTRIES = [512, 224, 240, 112, 256, 1024, 2048];

/** Where the root may stand: at cluster 2 (FAT32, nearly always), or before all clusters. */
const rootsOf = ({ dataAt }: ClusterGeometry) => [
  { cluster: 2, runs: [] },
  ...ROOT_ENTRIES.map((entries) => ({ cluster: 0, runs: [{ at: dataAt - entries * ENTRY.size, length: entries * ENTRY.size }] })).filter(
    ({ runs }) => runs.every(({ at }) => at > 0),
  ),
];

/** Finds what FAT has left in a volume that is of another kind now. The upper halves of clusters' numbers, which FAT16 has not, are zero there. */
export const formerFat = (ground: Ground): LeftoverScan =>
  formerTree(ground, {
    firstBytes: [0x2e],
    trace: (head, at) => (beginsFolder(head) && ground.isFree(at) ? folderBeginning(head, true) : null),
    entriesIn: (bytes) => readDirectory(bytes, true).entries,
    goesOn: (bytes) => goesOn(bytes, true),
    rootsOf,
  });

/** Whether bytes could go on with a folder: nearly all that is in them reads as entries. */
function goesOn(bytes: Uint8Array, wide: boolean): boolean {
  const { entries, slots, refused } = readDirectory(bytes, wide);
  return entries.length > 0 && refused <= slots / MOST_REFUSED;
}

/** Whether the first slots could be those of a folder: of nearly all clusters the first one cannot. */
function beginsWithEntries(head: Uint8Array): boolean {
  for (let slot = 0; slot < FEWEST_SLOTS; slot += 1) if (!mayBeSlot(head, slot * ENTRY.size)) return false;
  return true;
}

import { type ByteSource, CachedSource, readBytes, WindowSource } from "../../bytes/byte-source";
import { Cursor } from "../../bytes/cursor";
import { LayoutSource, layoutOf, type Segment } from "../../bytes/layout";
import { AllocationMap } from "../allocation-map";
import { type Chain, type ClusterGeometry, type ClusterRun, followChain } from "../cluster-chain";
import { type FileSystem, FileSystemError } from "../file-record";
import type { TreeEntry } from "../folder-entry";
import type { ClusterGuess, FolderTrace } from "../folder-measures";
import { FolderTree } from "../folder-tree";
import type { Ground } from "../ground";
import type { LeftoverScan } from "../leftovers";
import { formerTree } from "../tree-leftovers";
import { type Allocated, type ExfatDirectory, readExfatDirectory } from "./entry-set";
import { BOOT, ENTRY_SIZE, FAT_MARK, TYPE } from "./layout";

const MAX_ROOT_CLUSTERS = 65_536;
const MOST_CHAINS = 100_000;
/** Slots that the entries of a file with the longest name take, and some more. */
const SLOTS_OF_LONGEST = 22;
/** 7.1 to 7.3: what a root begins with. */
const ROOT_TYPES: readonly number[] = [TYPE.bitmap, TYPE.upcase, TYPE.label];
const ENTRY_TYPES: readonly number[] = [TYPE.file, TYPE.stream, TYPE.name];
/** What may stand behind the first entry of a root: another of its own, one without a name (7.3), the volume's identifier (7.5), or a file. */
const BEHIND_FIRST: readonly number[] = [...ROOT_TYPES, 0x03, 0xa0, TYPE.file, TYPE.file & ~TYPE.inUse];
/** Of folders, and of those that begin with a deleted entry. */
const FIRST_BYTES = [...ROOT_TYPES, TYPE.file, TYPE.file & ~TYPE.inUse];

interface ExfatGeometry extends ClusterGeometry {
  readonly fatAt: number;
  readonly rootCluster: number;
  readonly notes: readonly string[];
}

/**
 * Opens an exFAT volume.
 * @param disk the whole disk: all offsets in records and layouts count from its first byte
 * @throws FileSystemError when neither the boot sector nor its copy can be followed
 */
export function openExfat(disk: ByteSource, start: number, length: number): FileSystem {
  const volume = new WindowSource(disk, start, length);
  return new ExfatVolume(volume, start, readGeometry(volume));
}

function readGeometry(volume: ByteSource): ExfatGeometry {
  const first = geometryAt(volume, 0);
  if (typeof first !== "string") return first;
  for (const sectorSize of [512, 4096]) {
    const copy = geometryAt(volume, BOOT.backupSector * sectorSize);
    if (typeof copy !== "string") return { ...copy, notes: ["The boot sector is damaged; its copy in sector 12 was used."] };
  }
  throw new FileSystemError(first);
}

function geometryAt(volume: ByteSource, at: number): ExfatGeometry | string {
  if (at + 512 > volume.size) return "The volume is too short for a boot sector.";
  const boot = new Cursor(readBytes(volume, at, 512));
  if (String.fromCharCode(...boot.slice(BOOT.name, 8)) !== BOOT.nameValue) return "The boot sector does not carry the mark of exFAT.";
  const sectorShift = boot.u8(BOOT.sectorShift);
  const clusterShift = boot.u8(BOOT.clusterShift);
  if (sectorShift < 9 || sectorShift > 12) return `The boot sector gives sectors of 2^${sectorShift} bytes; 2^9 to 2^12 is possible.`;
  if (sectorShift + clusterShift > 25) return "The boot sector gives clusters of more than 32 MiB.";
  const sectorSize = 2 ** sectorShift;
  const clusterSize = sectorSize * 2 ** clusterShift;
  const dataAt = boot.u32(BOOT.clusterHeapOffset) * sectorSize;
  // Neither the table nor the disk can hold more clusters than they have bytes for.
  const clusters = Math.min(
    boot.u32(BOOT.clusterCount),
    Math.floor((boot.u32(BOOT.fatLength) * sectorSize) / 4) - 2,
    Math.ceil((volume.size - dataAt) / clusterSize),
  );
  if (clusters < 1 || dataAt === 0 || dataAt >= volume.size) return "The boot sector says the volume has no clusters.";
  return {
    clusterSize,
    clusters,
    dataAt,
    fatAt: boot.u32(BOOT.fatOffset) * sectorSize,
    rootCluster: boot.u32(BOOT.rootCluster),
    notes: [],
  };
}

class ExfatVolume extends FolderTree {
  readonly allocation: AllocationMap | null;
  readonly label: string | null;
  readonly notes: readonly string[];
  readonly #table: ByteSource;
  readonly #bookkeeping: Pick<ExfatDirectory, "bitmap" | "upcase">;

  constructor(
    volume: ByteSource,
    start: number,
    private readonly geometry: ExfatGeometry,
  ) {
    super(volume, start, geometry);
    this.#table = new CachedSource(volume, 4096, 256);
    const root = readExfatDirectory(this.#read(this.rootRuns()));
    this.label = root.label;
    this.#bookkeeping = root;
    this.allocation = root.bitmap ? this.#openBitmap(root.bitmap) : null;
    this.notes = this.allocation
      ? geometry.notes
      : [...geometry.notes, "The map of used clusters cannot be read: what deleted files still hold cannot be judged."];
  }

  protected rootRuns(): { at: number; length: number }[] {
    const { rootCluster, clusterSize } = this.geometry;
    return this.chain(rootCluster, MAX_ROOT_CLUSTERS).runs.map((run) => ({
      at: this.clusterAt(run.first),
      length: run.count * clusterSize,
    }));
  }

  protected entriesIn(bytes: Uint8Array): readonly TreeEntry[] {
    return readExfatDirectory(bytes).entries;
  }

  protected goesOn(bytes: Uint8Array): boolean {
    return goesOn(bytes);
  }

  protected chain(first: number, most: number): Chain {
    return followChain(first, most, this.geometry.clusters, (cluster) => {
      const next = new Cursor(readBytes(this.#table, this.geometry.fatAt + cluster * 4, 4)).u32(0);
      return next === FAT_MARK.bad ? "bad" : next >= FAT_MARK.end ? "end" : next;
    });
  }

  protected isUsed(cluster: number): boolean {
    return this.allocation?.isUsed(cluster - 2) ?? false;
  }

  /** Entry sets carry checksums: one that is right proves the folder. */
  protected provesFolder(cluster: number): boolean {
    const bytes = readBytes(this.volume, this.clusterAt(cluster), Math.min(this.geometry.clusterSize, 65_536));
    return readExfatDirectory(bytes).entries.some((entry) => entry.notes.length === 0);
  }

  protected override folderBegins(): readonly number[] {
    return FIRST_BYTES;
  }

  protected folderTrace(head: Uint8Array, at: number): FolderTrace | null {
    return folderBeginning(head, this.volume, at);
  }

  protected override ownRuns(): ClusterRun[] {
    const root = this.chain(this.geometry.rootCluster, MAX_ROOT_CLUSTERS).runs;
    const { bitmap, upcase } = this.#bookkeeping;
    const own = [bitmap, upcase].flatMap((each) =>
      each ? this.chain(each.firstCluster, Math.ceil(each.length / this.geometry.clusterSize)).runs : [],
    );
    return [...root, ...own];
  }

  /** Stretches the map has in use that belong to nothing; files laid down in one piece have no chain to go by. */
  protected override lostChains(): readonly Chain[] {
    const owned = this.ownedClusters();
    const chains: Chain[] = [];
    for (const { start, end } of this.allocation?.usedWithoutOwner((index) => owned[index + 2] === 1) ?? []) {
      if (chains.length >= MOST_CHAINS) break;
      chains.push({ runs: [{ first: start + 2, count: end - start }], clusters: end - start, problem: null });
    }
    return chains;
  }

  #read(runs: readonly { at: number; length: number }[]): Uint8Array {
    const most = 1 << 24;
    const length = Math.min(
      most,
      runs.reduce((sum, run) => sum + run.length, 0),
    );
    const segments = runs.map((run): Segment => ({ kind: "disk", ...run }));
    return readBytes(new LayoutSource(this.volume, layoutOf(segments, length)), 0, length - (length % ENTRY_SIZE));
  }

  #openBitmap(bitmap: { firstCluster: number; length: number }): AllocationMap | null {
    const { clusterSize, clusters } = this.geometry;
    if (bitmap.length * 8 < clusters) return null;
    const needed = Math.ceil(clusters / 8);
    const chain = this.chain(bitmap.firstCluster, Math.ceil(needed / clusterSize));
    if (chain.clusters * clusterSize < needed) return null;
    const segments = chain.runs.map((run): Segment => ({ kind: "disk", at: this.clusterAt(run.first), length: run.count * clusterSize }));
    return new AllocationMap(new LayoutSource(this.volume, layoutOf(segments, needed)), clusters);
  }
}

/** Whether bytes could go on with a folder: nearly all that is in them reads as entries. */
function goesOn(bytes: Uint8Array): boolean {
  let slots = 0;
  while (slots * ENTRY_SIZE < bytes.length && bytes[slots * ENTRY_SIZE] !== 0) slots += 1;
  const { entries } = readExfatDirectory(bytes);
  return entries.length > 0 && entries.length >= slots / SLOTS_OF_LONGEST;
}

/** Folders begin with an entry set that is right; a root begins with the label, the map and the letter table. They do not say where they stand. */
function folderBeginning(head: Uint8Array, volume: ByteSource, at: number): FolderTrace | null {
  const type = head[0] ?? 0;
  const root = ROOT_TYPES.includes(type) && BEHIND_FIRST.includes(head[ENTRY_SIZE] as number);
  // An entry set goes on with its second and third entry: nearly all sectors are passed by here.
  const set = (at: number) =>
    ((head[at] as number) | TYPE.inUse) === TYPE.file &&
    ((head[at + ENTRY_SIZE] as number) | TYPE.inUse) === TYPE.stream &&
    ((head[at + 2 * ENTRY_SIZE] as number) | TYPE.inUse) === TYPE.name;
  if (!root && !set(0)) return null;
  const { entries, bitmap, upcase } = readExfatDirectory(head);
  if (!entries.some((entry) => entry.notes.length === 0)) return null;
  const before = at < ENTRY_SIZE ? 0 : (readBytes(volume, at - ENTRY_SIZE, 1)[0] as number);
  return {
    cluster: null,
    parent: null,
    root,
    ...(ENTRY_TYPES.includes(before | TYPE.inUse) ? { mayGoOn: true } : {}),
    ...(root && bitmap && upcase ? { guesses: rootGuesses(bitmap, upcase, volume.size) } : {}),
  };
}

/**
 * Where a root stands, by the tables it names (common practice, no published source: they are laid down one after the other, the root behind them),
 * for clusters of each size. It is likely where so many clusters fill the volume as the map has bits (7.1.5 of the specification).
 */
function rootGuesses(bitmap: Allocated, upcase: Allocated, size: number): ClusterGuess[] {
  return Array.from({ length: 17 }, (_, power) => 512 * 2 ** power).map((clusterSize) => {
    const behind = ({ firstCluster, length }: Allocated) => firstCluster + Math.ceil(length / clusterSize);
    const clusters = size / clusterSize;
    // Before the first cluster stands at least a table with four bytes for each.
    const fits = bitmap.length * 8 <= clusters && bitmap.length * 8 * 2 > clusters;
    return { cluster: Math.max(behind(bitmap), behind(upcase)), clusterSize, likely: fits };
  });
}

/** Finds what exFAT has left in a volume that is of another kind now. */
export const formerExfat = (ground: Ground): LeftoverScan =>
  formerTree(ground, {
    firstBytes: FIRST_BYTES,
    trace: (head, at) => {
      const found = folderBeginning(head, ground.volume, at);
      return found && ground.isFree(at) ? found : null;
    },
    entriesIn: (bytes) => readExfatDirectory(bytes).entries,
    goesOn,
  });

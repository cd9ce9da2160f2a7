import { type ByteSource, readBytes, WindowSource } from "../../bytes/byte-source";
import type { AllocationMap } from "../allocation-map";
import type { FileSystem } from "../file-record";
import { type Chain, FolderTree, type TreeEntry } from "../folder-tree";
import { readDirectory } from "./directory";
import { FatTable } from "./fat-table";
import { type FatGeometry, readGeometry } from "./geometry";
import { ENTRY } from "./layout";

/** The root folder of FAT32 is a chain as any other; it never has more than this many clusters. */
const MAX_ROOT_CLUSTERS = 65_536;

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
  readonly label: string | null;
  readonly notes: readonly string[];
  readonly #table: FatTable;

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
      "Times on this volume are local times of the device that wrote them; they are shown as they stand.",
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
    return readDirectory(bytes, this.#wide).entries;
  }

  protected chain(first: number, most: number): Chain {
    return this.#table.chain(first, most);
  }

  protected isUsed(cluster: number): boolean {
    return this.#table.isUsed(cluster);
  }

  /** A folder's first two entries name itself and the one above. */
  protected provesFolder(cluster: number): boolean {
    const head = readBytes(this.volume, this.clusterAt(cluster), 64);
    const view = new DataView(head.buffer);
    const own = view.getUint16(ENTRY.clusterLow, true) + (this.#wide ? view.getUint16(ENTRY.clusterHigh, true) * 65_536 : 0);
    return head[0] === 0x2e && head[1] === 0x20 && head[32] === 0x2e && head[33] === 0x2e && own === cluster;
  }
}

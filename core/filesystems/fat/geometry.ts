import { type ByteSource, readBytes } from "../../bytes/byte-source";
import { Cursor } from "../../bytes/cursor";
import { FileSystemError } from "../file-record";
import { BPB, MOST_CLUSTERS, USUAL_BACKUP_SECTOR } from "./layout";

export interface FatGeometry {
  readonly bits: 12 | 16 | 32;
  readonly sectorSize: number;
  readonly clusterSize: number;
  /** Clusters with data; they are numbered from 2. */
  readonly clusters: number;
  readonly media: number;
  /** Offsets in the volume, bytes. */
  readonly fatAt: number;
  readonly fatBytes: number;
  readonly fatCount: number;
  /** Where the root folder stands on FAT12 and FAT16; FAT32 has it in clusters. */
  readonly rootAt: number;
  readonly rootBytes: number;
  readonly rootCluster: number;
  /** Offset of cluster 2. */
  readonly dataAt: number;
  readonly notes: readonly string[];
}

const powerOfTwo = (value: number) => value > 0 && (value & (value - 1)) === 0;

/**
 * Reads the boot sector of a FAT volume; of a FAT32 one whose first sector is gone, its copy.
 * @throws FileSystemError when neither makes sense
 */
export function readGeometry(volume: ByteSource): FatGeometry {
  const first = geometryAt(volume, 0);
  if (typeof first !== "string") return first;
  for (const sectorSize of [512, 4096]) {
    const backup = geometryAt(volume, USUAL_BACKUP_SECTOR * sectorSize);
    if (typeof backup !== "string" && backup.sectorSize === sectorSize)
      return { ...backup, notes: ["The boot sector is damaged; its copy in sector 6 was used."] };
  }
  throw new FileSystemError(first);
}

/** The geometry a boot sector gives, or why it cannot be one. */
function geometryAt(volume: ByteSource, at: number): FatGeometry | string {
  if (at + 512 > volume.size) return "The volume is too short for a boot sector.";
  const boot = new Cursor(readBytes(volume, at, 512));
  const sectorSize = boot.u16(BPB.bytesPerSector);
  const perCluster = boot.u8(BPB.sectorsPerCluster);
  const reserved = boot.u16(BPB.reservedSectors);
  const fatCount = boot.u8(BPB.fatCount);
  const media = boot.u8(BPB.media);
  if (![512, 1024, 2048, 4096].includes(sectorSize))
    return `The boot sector gives a sector size of ${sectorSize} bytes; 512 to 4096 is possible.`;
  if (!powerOfTwo(perCluster)) return `The boot sector gives ${perCluster} sectors in a cluster; it must be a power of two.`;
  if (reserved === 0 || fatCount < 1 || fatCount > 4) return "The boot sector gives no place for the allocation table.";
  if (media !== 0xf0 && media < 0xf8) return "The boot sector gives a kind of medium that does not exist.";
  const rootBytes = Math.ceil((boot.u16(BPB.rootEntries) * 32) / sectorSize) * sectorSize;
  const sectors = boot.u16(BPB.totalSectors16) || boot.u32(BPB.totalSectors32);
  const fatBytes = (boot.u16(BPB.fatSectors16) || boot.u32(BPB.fatSectors32)) * sectorSize;
  const fatAt = reserved * sectorSize;
  const rootAt = fatAt + fatCount * fatBytes;
  const dataAt = rootAt + rootBytes;
  const clusterSize = perCluster * sectorSize;
  const counted = Math.floor((sectors * sectorSize - dataAt) / clusterSize);
  if (fatBytes === 0 || counted < 1) return "The boot sector says the volume has no clusters.";
  const bits = boot.u16(BPB.fatSectors16) === 0 ? 32 : counted <= MOST_CLUSTERS.fat12 ? 12 : counted <= MOST_CLUSTERS.fat16 ? 16 : 32;
  // The table cannot speak of more clusters than it has entries for, nor the disk hold more than it has bytes.
  const mapped = Math.floor((Math.min(fatBytes, volume.size) * 8) / bits) - 2;
  const clusters = Math.min(counted, mapped);
  if (clusters < 1) return "The allocation table has no room for a single cluster.";
  return {
    bits,
    sectorSize,
    clusterSize,
    clusters,
    media,
    fatAt,
    fatBytes,
    fatCount,
    rootAt,
    rootBytes,
    rootCluster: bits === 32 ? boot.u32(BPB.rootCluster32) : 0,
    dataAt,
    notes: [],
  };
}

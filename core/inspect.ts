import { type ByteSource, WindowSource } from "./bytes/byte-source";
import { openExfat } from "./filesystems/exfat/exfat";
import { openFat } from "./filesystems/fat/fat";
import { type FileSystem, FileSystemError } from "./filesystems/file-record";
import { openNtfs } from "./filesystems/ntfs/ntfs";
import { type FileSystemName, recogniseFileSystem } from "./filesystems/recognise";
import type { PartitionTable } from "./partitions/partition";
import { readPartitions } from "./partitions/read-partitions";

/** A volume found on a disk. Offsets and lengths are bytes of the disk. */
export interface VolumeReport {
  /** Counts from 0 in the order on the disk. */
  readonly volume: number;
  readonly container: string;
  readonly table: PartitionTable["kind"];
  readonly offset: number;
  readonly length: number;
  readonly filesystem: FileSystemName;
  readonly label: string | null;
  readonly clusterSize: number | null;
  readonly notes: readonly string[];
}

export interface DiskReport {
  readonly container: string;
  /** Bytes of the disk inside the container. */
  readonly size: number;
  readonly table: PartitionTable["kind"];
  readonly volumes: readonly VolumeReport[];
  /** What concerns the disk as a whole. */
  readonly notes: readonly string[];
}

/** File systems whose records can be read. The others are only recognised. */
const OPENERS: Partial<Record<FileSystemName, (disk: ByteSource, start: number, length: number) => FileSystem>> = {
  ntfs: openNtfs,
  fat12: openFat,
  fat16: openFat,
  fat32: openFat,
  exfat: openExfat,
};

/** Says what a disk holds: its partition table and the volumes in it. Damage becomes notes. */
export function inspectDisk(disk: ByteSource, container = "raw"): DiskReport {
  const table = readPartitions(disk);
  const bare = table.partitions.length === 0 ? [{ start: 0, length: disk.size, type: null, name: null }] : table.partitions;
  const volumes = [...bare]
    .sort((a, b) => a.start - b.start)
    .map((partition, volume): VolumeReport => {
      const length = Math.min(partition.length, disk.size - partition.start);
      const recognised = recogniseFileSystem(new WindowSource(disk, partition.start, length));
      const notes: string[] = [];
      if (length < partition.length)
        notes.push(`The partition should have ${partition.length} bytes; the disk ends after ${length} of them.`);
      const facts = openFacts(disk, partition.start, length, recognised.filesystem, notes);
      return {
        volume,
        container,
        table: table.kind,
        offset: partition.start,
        length,
        filesystem: recognised.filesystem,
        label: facts?.label ?? recognised.label,
        clusterSize: facts?.clusterSize ?? recognised.clusterSize,
        notes,
      };
    });
  return { container, size: disk.size, table: table.kind, volumes, notes: table.notes };
}

function openFacts(disk: ByteSource, start: number, length: number, filesystem: FileSystemName, notes: string[]): FileSystem | null {
  if (filesystem === "unknown") return null;
  try {
    const opened = openVolume(disk, { offset: start, length, filesystem });
    notes.push(...opened.notes);
    return opened;
  } catch (error) {
    if (!(error instanceof FileSystemError)) throw error;
    notes.push(error.message);
    return null;
  }
}

/**
 * Opens a volume for reading its records.
 * @throws FileSystemError when the file system is not read, or its structures cannot be followed
 */
export function openVolume(disk: ByteSource, volume: Pick<VolumeReport, "offset" | "length" | "filesystem">): FileSystem {
  const open = OPENERS[volume.filesystem];
  if (!open) throw new FileSystemError(`Volumes of the kind ${volume.filesystem} are recognised, but their files are not read yet.`);
  return open(disk, volume.offset, volume.length);
}

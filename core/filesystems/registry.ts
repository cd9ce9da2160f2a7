import { tarArchive, zipArchive } from "../archives/kind";
import type { ByteSource } from "../bytes/byte-source";
import { apfs } from "./apfs/kind";
import { exfat } from "./exfat/kind";
import { fat } from "./fat/kind";
import { type FileSystem, FileSystemError } from "./file-record";
import type { FileSystemKind, InnerVolume, VolumeIdentity } from "./file-system-kind";
import { hfsPlus } from "./hfsplus/kind";
import type { FileSystemName, KnownFileSystem } from "./names";
import { ntfs } from "./ntfs/kind";
import { tape } from "./tape/kind";

/** All file systems, and what else holds named files, in the order in which a volume is asked for them. */
export const FILE_SYSTEMS: readonly FileSystemKind[] = [fat, exfat, ntfs, apfs, hfsPlus, tape, zipArchive, tarArchive];

const OPENERS: FileSystemKind["openers"] = Object.assign({}, ...FILE_SYSTEMS.map(({ openers }) => openers));
const SERIALS: FileSystemKind["serialAt"] = Object.assign({}, ...FILE_SYSTEMS.map(({ serialAt }) => serialAt));

/**
 * Opens a volume for reading its records. Disk byte offset and length.
 * @throws FileSystemError when the file system is not read, or its structures cannot be followed
 */
export function openFileSystem(
  filesystem: FileSystemName,
  disk: ByteSource,
  start: number,
  length: number,
  view: string | null = null,
): FileSystem {
  const open = OPENERS?.[filesystem as KnownFileSystem];
  if (!open) throw new FileSystemError(`Volumes of the kind ${filesystem} are recognised, but their files are not read yet.`);
  return open(disk, start, length, view);
}

/** Lists the volumes that share a place on a disk; null: such a file system has one volume alone. @throws FileSystemError */
export function volumesIn(filesystem: FileSystemName, disk: ByteSource, start: number, length: number): InnerVolume[] | null {
  const kind = FILE_SYSTEMS.find(({ openers }) => openers && filesystem in openers);
  return kind?.volumesIn?.(disk, start, length) ?? null;
}

/** Says what tells a volume from all others, by what it says itself; null: its file system does not say. */
export function identifyVolume(filesystem: FileSystemName, volume: ByteSource): VolumeIdentity | null {
  const kind = FILE_SYSTEMS.find(({ openers }) => openers && filesystem in openers);
  return kind?.identify?.(volume) ?? null;
}

/** Where the boot sector of such a volume has its serial number: byte offset; null: it has none, or it is not known. */
export const serialOffset = (filesystem: FileSystemName): number | null => SERIALS?.[filesystem as KnownFileSystem] ?? null;

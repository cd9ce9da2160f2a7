import { packedFile, tarArchive, zipArchive } from "../archives/kind";
import type { ByteSource } from "../bytes/byte-source";
import { apfs } from "./apfs/kind";
import { withChangedLeftovers } from "./changed-records";
import { exfat } from "./exfat/kind";
import { fat } from "./fat/kind";
import { type FileSystem, FileSystemError } from "./file-record";
import type { FileSystemKind, InnerVolume, VolumeIdentity } from "./file-system-kind";
import { Ground, ofFormer } from "./ground";
import { hfsPlus } from "./hfsplus/kind";
import { changedScan } from "./leftovers";
import type { FileSystemName, KnownFileSystem } from "./names";
import { ntfs } from "./ntfs/kind";
import { tape } from "./tape/kind";

/** All file systems, and what else holds named files, in the order in which a volume is asked for them. */
export const FILE_SYSTEMS: readonly FileSystemKind[] = [fat, exfat, ntfs, apfs, hfsPlus, tape, zipArchive, tarArchive, packedFile];

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
  const opened = open(disk, start, length, view);
  return opened.leftovers ? withFormer(opened, filesystem, disk) : opened;
}

/** A volume among whose leftovers are those of file systems of other kinds that were in its place before. */
const withFormer = (opened: FileSystem, filesystem: FileSystemName, disk: ByteSource): FileSystem =>
  withChangedLeftovers(opened, (leftovers) => {
    if (leftovers.sharesPlace) return leftovers;
    const { volume, start } = leftovers;
    const ground = new Ground(disk, start, volume, opened);
    const others = FILE_SYSTEMS.filter(({ openers = {} }) => !(filesystem in openers));
    const former = others.flatMap((kind) => (kind.former && !opensStill(kind, volume) ? [kind.former] : []));
    return { ...leftovers, former: former.map(({ title, scan }) => changedScan(scan(ground), (record) => ofFormer(record, title))) };
  });

/** Whether a former file system can still be opened by the copy it kept of its beginning: then it is a volume of its own, of an earlier division. */
function opensStill({ recogniseCopy, openers = {} }: FileSystemKind, volume: ByteSource): boolean {
  const found = recogniseCopy?.(volume);
  const open = found && openers[found.filesystem as KnownFileSystem];
  if (!open) return false;
  try {
    return hasFiles(open(volume, 0, volume.size, null));
  } catch (error) {
    if (!(error instanceof FileSystemError)) throw error;
    return false;
  }
}

/** Records looked through for the first file of a volume's own. */
const MOST_LOOKED_AT = 4096;

/** Whether a volume has a file or folder that is not the file system's own. */
export function hasFiles(volume: FileSystem): boolean {
  for (const batch of volume.readRecords(null, 512)) {
    if (batch.records.some((record) => !record.system)) return true;
    if (batch.done > MOST_LOOKED_AT) return false;
  }
  return false;
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

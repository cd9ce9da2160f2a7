import type { ByteSource } from "../core/bytes/byte-source";
import { withChangedRecords } from "../core/filesystems/changed-records";
import { type FileSystem, FileSystemError, unproven } from "../core/filesystems/file-record";
import { type FileTree, volumeTree } from "../core/places/file-tree";
import { openVolume, type VolumeAt, type VolumeReport } from "../core/volumes/inspect";
import { type LaterVolume, underLater } from "../core/volumes/under-later";
import { volumeSerial } from "../core/volumes/volume-serial";
import { type FileAt, FolderSource, openVersions } from "./folder-source";
import { isProvenWay } from "./inner-file";
import { type DiskAt, openDisk, type SourceAt } from "./open-source";

/** Which volume of a source is meant, and what lies over it; `filesystem` is "folder" for a folder of this computer. */
export type VolumePlace = Pick<VolumeReport, "offset" | "length" | "view"> & {
  readonly filesystem: string;
  readonly over?: readonly (Pick<VolumeReport, "offset" | "length" | "view"> & { readonly filesystem: string })[];
};

export const FOLDER = "folder";

/** A volume or a folder, opened for passes over its files. */
export interface Searchable {
  readonly disk: ByteSource;
  readonly volume: FileSystem;
  readonly tree: FileTree;
  close(): void;
}

/**
 * Opens a volume of a source. Where the file its disk lies in is not proven to hold its own bytes, neither are those of the files on it:
 * only their content can prove them.
 * @throws FileSystemError when it cannot be opened
 */
export function openVolumeOf({ within }: DiskAt, disk: ByteSource, volume: VolumeAt): FileSystem {
  const opened = openVolume(disk, volume);
  return isProvenWay(within) ? opened : withoutProof(opened);
}

const withoutProof = (volume: FileSystem): FileSystem => withChangedRecords(volume, unproven);

/** What lies over a volume, as far as it can be opened. */
const openLater = (disk: ByteSource, over: NonNullable<VolumePlace["over"]>): LaterVolume[] =>
  over.map(({ filesystem, offset, length, view }) => {
    try {
      return { offset, length, opened: openVolume(disk, { filesystem: filesystem as VolumeReport["filesystem"], offset, length, view }) };
    } catch (error) {
      if (!(error instanceof FileSystemError)) throw error;
      return { offset, length, opened: null };
    }
  });

/** @throws SourceError or FileSystemError when it cannot be opened */
export function openSearchable(source: DiskAt, place: VolumePlace): Searchable {
  if (place.filesystem === FOLDER) {
    const folder = new FolderSource(source.sourcePath);
    return { disk: folder.disk, volume: folder, tree: folder, close: () => undefined };
  }
  const { disk, close } = openDisk(source);
  const filesystem = place.filesystem as VolumeReport["filesystem"];
  try {
    const own = openVolumeOf(source, disk, { ...place, filesystem });
    const volume = place.over && place.over.length > 0 ? underLater(own, openLater(disk, place.over)) : own;
    return { disk, volume, tree: volumeTree(volume, disk, volumeSerial(disk, place.offset, filesystem)), close };
  } catch (error) {
    close();
    throw error;
  }
}

/** The bytes a copy's layout counts: those of its source's disk, or of files of a folder. @throws SourceError when they are others now */
export function openBytes(source: SourceAt, file: FileAt | null): { disk: ByteSource; close(): void } {
  return file === null ? openDisk(source) : openVersions(source.sourcePath, file);
}

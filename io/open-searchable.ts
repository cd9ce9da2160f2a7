import type { ByteSource } from "../core/bytes/byte-source";
import type { FileSystem } from "../core/filesystems/file-record";
import { type FileTree, volumeTree } from "../core/places/file-tree";
import { openVolume, type VolumeReport } from "../core/volumes/inspect";
import { volumeSerial } from "../core/volumes/volume-serial";
import { type FileAt, FolderSource, openVersion } from "./folder-source";
import { type DiskAt, openDisk, type SourceAt } from "./open-source";

/** Which volume of a source is meant; `filesystem` is "folder" for a folder of this computer. */
export type VolumePlace = Pick<VolumeReport, "offset" | "length"> & { readonly filesystem: string };

export const FOLDER = "folder";

/** A volume or a folder, opened for passes over its files. */
export interface Searchable {
  readonly disk: ByteSource;
  readonly volume: FileSystem;
  readonly tree: FileTree;
  close(): void;
}

/** @throws SourceError or FileSystemError when it cannot be opened */
export function openSearchable(source: DiskAt, place: VolumePlace): Searchable {
  if (place.filesystem === FOLDER) {
    const folder = new FolderSource(source.sourcePath);
    return { disk: folder.disk, volume: folder, tree: folder, close: () => undefined };
  }
  const { disk, close } = openDisk(source);
  const filesystem = place.filesystem as VolumeReport["filesystem"];
  try {
    const volume = openVolume(disk, { ...place, filesystem });
    return { disk, volume, tree: volumeTree(volume, disk, volumeSerial(disk, place.offset, filesystem)), close };
  } catch (error) {
    close();
    throw error;
  }
}

/** The bytes a copy's layout counts: those of its source's disk, or of one file of a folder. @throws SourceError when they are others now */
export function openBytes(source: SourceAt, file: FileAt | null): { disk: ByteSource; close(): void } {
  return file === null ? openDisk(source) : openVersion(source.sourcePath, file);
}

import type { ByteSource } from "../core/bytes/byte-source";
import { type FileSystem, type RecordBatch, unproven } from "../core/filesystems/file-record";
import { type FileTree, volumeTree } from "../core/places/file-tree";
import { openVolume, type VolumeAt, type VolumeReport } from "../core/volumes/inspect";
import { volumeSerial } from "../core/volumes/volume-serial";
import { type FileAt, FolderSource, openVersion } from "./folder-source";
import { isProvenWay } from "./inner-file";
import { type DiskAt, openDisk, type SourceAt } from "./open-source";

/** Which volume of a source is meant; `filesystem` is "folder" for a folder of this computer. */
export type VolumePlace = Pick<VolumeReport, "offset" | "length" | "view"> & { readonly filesystem: string };

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

function withoutProof(volume: FileSystem): FileSystem {
  function* guessed(batches: Iterable<RecordBatch>): Generator<RecordBatch, void, void> {
    for (const batch of batches) yield { ...batch, records: batch.records.map(unproven) };
  }
  const { clusterSize, label, notes, localTimes, allocation, allocationStart } = volume;
  return {
    clusterSize,
    label,
    notes,
    ...(localTimes === undefined ? {} : { localTimes }),
    allocation,
    allocationStart,
    readRecords: (from, step) => guessed(volume.readRecords(from, step)),
    ...(volume.readLeftovers ? { readLeftovers: (...args) => guessed(volume.readLeftovers?.(...args) ?? []) } : {}),
    ...(volume.states ? { states: () => volume.states?.() ?? [] } : {}),
    ...(volume.findings ? { findings: () => volume.findings?.() ?? [] } : {}),
  };
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
    const volume = openVolumeOf(source, disk, { ...place, filesystem });
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

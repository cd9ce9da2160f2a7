import type { ByteSource } from "../bytes/byte-source";

/** Folders larger than this are damage or an attack on memory. */
export const MAX_FOLDER_BYTES = 1 << 26;

/** A file or folder as the entry in its folder gives it. */
export interface TreeEntry {
  readonly name: string;
  /** The name's bytes as stored. */
  readonly rawName: Uint8Array;
  /** A part of the name is gone: another entry may be called the same and be another file. */
  readonly incompleteName?: boolean;
  readonly deleted: boolean;
  readonly directory: boolean;
  readonly firstCluster: number;
  /** Bytes; of a folder only where its entry says. */
  readonly size: number;
  /** The entry itself says that the clusters follow one another. */
  readonly contiguous: boolean;
  /** Bytes past this read as zeros whatever stands there. */
  readonly validSize: number;
  readonly created: number | null;
  readonly modified: number | null;
  /** Its times have no zone: they are those of the device's own clock. */
  readonly localTimes?: boolean;
  /** As in `FileRecord`. */
  readonly marks: number;
  /** Offset of the entry in the folder's bytes. */
  readonly at: number;
  readonly notes: readonly string[];
}

/** A folder that was found, with where its entries stand. */
export interface Folder {
  readonly path: string;
  readonly deleted: boolean;
  readonly depth: number;
  readonly runs: readonly { at: number; length: number }[];
  /** Nothing leads to it: what had been deleted in it may have been written over since by files of which no trace is left. */
  readonly lost?: boolean;
  /** It is not known in what clusters its entries count. */
  readonly guessed?: boolean;
}

/** The bytes of a folder, its stretches joined. */
export function folderBytes(volume: ByteSource, runs: Folder["runs"]): Uint8Array {
  const length = Math.min(
    MAX_FOLDER_BYTES,
    runs.reduce((sum, run) => sum + run.length, 0),
  );
  const bytes = new Uint8Array(length);
  let done = 0;
  for (const run of runs) {
    const part = bytes.subarray(done, Math.min(length, done + run.length));
    volume.read(run.at, part);
    done += part.length;
  }
  return bytes;
}

/** Where an entry of a folder stands in the volume. */
export function entryPlace(folder: Folder, at: number): number {
  let left = at;
  for (const run of folder.runs) {
    if (left < run.length) return run.at + left;
    left -= run.length;
  }
  return 0;
}

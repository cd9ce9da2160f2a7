import type { ByteSource } from "../bytes/byte-source";
import type { Checkpoint } from "../bytes/checkpoint";
import { LayoutSource } from "../bytes/layout";
import { type FileRecord, type FileSystem, likeliest, type RecordBatch } from "../filesystems/file-record";

/** The content of a file, to be closed after use. */
export interface OpenedFile {
  readonly content: ByteSource;
  close(): void;
}

/** Named files, wherever they are: on a volume in an image, or in a folder of this computer. */
export interface FileTree {
  /** Serial number the volume gave itself (its low 32 bits); null: it has none, or is no volume. */
  readonly serial: number | null;
  readRecords(from: Checkpoint | null, step: number): Generator<RecordBatch, void, void>;
  /** The records of what lies below a folder, without going through all others; not given: a tree cannot. */
  readBelow?(folder: string): Generator<FileRecord, void, void>;
  /** All records, but of what lies in a folder of such a name only the folders; not given: a tree gives all of them anyway. */
  readOutside?(isSet: (name: string) => boolean): Generator<FileRecord, void, void>;
  /** null: the content cannot be read. */
  open(record: FileRecord): OpenedFile | null;
  /** What the layouts of its records count in, for judging deleted files. */
  readonly disk: ByteSource;
}

/** A volume of an image as a tree of files. */
export function volumeTree(volume: FileSystem, disk: ByteSource, serial: number | null): FileTree {
  return {
    serial,
    disk,
    readRecords: (from, step) => volume.readRecords(from, step),
    open: (record) => {
      const place = likeliest(record);
      return place && { content: new LayoutSource(disk, place.layout), close: () => undefined };
    },
  };
}

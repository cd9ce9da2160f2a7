import type { ByteSource } from "../bytes/byte-source";
import type { Cursor } from "../bytes/cursor";
import type { FileSystem } from "./file-record";
import type { Ground } from "./ground";
import type { LeftoverScan } from "./leftovers";
import type { FileSystemName, KnownFileSystem } from "./names";

/** What the first sectors of a volume say. */
export interface Recognised {
  readonly filesystem: FileSystemName;
  /** Bytes the volume claims to have; null when its first sector does not say. */
  readonly length: number | null;
  /** Bytes in an allocation unit. */
  readonly clusterSize: number | null;
  readonly label: string | null;
}

/** A volume as one sector describes it. Offsets are bytes of the disk. */
export interface VolumeTrace {
  readonly start: number;
  readonly length: number;
  readonly filesystem: FileSystemName;
  /** What it was recognised by. */
  readonly by: "boot sector" | "backup boot sector" | "file records";
}

/** What a volume says of itself that tells it from all others. Identifiers are those of its file system, written in lower case. */
export interface VolumeIdentity {
  readonly id: string;
  /** Of the drive its user knows, where several volumes make that up: the same for all of them. Their trees are parts of one. */
  readonly drive: string | null;
  /** What it holds of that drive; null: it does not say, or stands alone. */
  readonly part: "system" | "data" | null;
}

/** One of several volumes in the same place. */
export interface InnerVolume {
  readonly filesystem: KnownFileSystem;
  readonly view: string;
  readonly label: string | null;
  readonly identity: VolumeIdentity | null;
  /** Why its content stays closed; null: it does not. */
  readonly closed: string | null;
  readonly notes: readonly string[];
}

/** Two bytes at a place in a sector, by which nearly every sector is passed over. */
export interface SectorMark {
  readonly at: number;
  readonly bytes: readonly [number, number];
}

/** The mark at the end of boot sectors ([UEFI] 5.2.1; [MS-FAT] 3.1). */
export const BOOT_MARK: SectorMark = { at: 510, bytes: [0x55, 0xaa] };

export const hasMark = (sector: Uint8Array, { at, bytes }: SectorMark, from = 0): boolean =>
  sector[from + at] === bytes[0] && sector[from + at + 1] === bytes[1];

/**
 * A file system, or a family of them: all that the house knows of it. What is not given is not known of it. Listed in `registry.ts`.
 */
export interface FileSystemKind {
  /** It may be smaller than any volume: an archive of one short file. */
  readonly mayBeSmall?: true;
  /** Recognises a volume by its first 2048 bytes; null: it is none of these. */
  recognise(head: Cursor): Recognised | null;
  /** Recognises a volume whose first sector is gone by the copy of it that it keeps. */
  recogniseCopy?(volume: ByteSource): Recognised | null;
  /** Recognises a volume without any boot sector by its records. Disk byte offset and length of the stretch in question. */
  recogniseRecords?(disk: ByteSource, start: number, length: number): Recognised | null;
  /**
   * Recognises a backup file or archive whose beginning is lost or damaged, where nothing else was found on a disk: the disk is all of it.
   */
  recogniseRemains?(disk: ByteSource): Recognised | null;
  /**
   * How each of them is opened. @throws FileSystemError when its structures cannot be followed
   * `view`: which of several volumes in the same place, and as of when; null where there is one alone, or the first is meant.
   */
  readonly openers?: {
    readonly [Name in KnownFileSystem]?: (disk: ByteSource, start: number, length: number, view: string | null) => FileSystem;
  };
  /** Lists the volumes that share a place, where there may be several. @throws FileSystemError when it cannot be followed */
  volumesIn?(disk: ByteSource, start: number, length: number): InnerVolume[];
  /** Says what tells a volume from all others, where it is alone in its place. */
  identify?(volume: ByteSource): VolumeIdentity | null;
  /** Where the boot sector has the volume's serial number, of which links keep the low 32 bits: byte offset. */
  readonly serialAt?: { readonly [Name in KnownFileSystem]?: number };
  /** Looks for what such a file system has left in a volume that is of another kind now. */
  readonly former?: {
    /** What people call it. */
    readonly title: string;
    scan(ground: Ground): LeftoverScan;
  };
  /** Evidence of a volume that no table names. */
  readonly traces?: {
    readonly marks: readonly SectorMark[];
    /** The volume that a sector with one of the marks gives evidence of; null: none that the disk bears out. */
    read(disk: ByteSource, at: number, sector: Uint8Array): VolumeTrace | null;
  };
}

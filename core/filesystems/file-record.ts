import type { Checkpoint } from "../bytes/checkpoint";
import type { Layout } from "../bytes/layout";
import type { Range } from "../bytes/range-set";
import type { UsedMap } from "./allocation-map";
import type { Leftovers } from "./leftovers";

/** What became of the bytes a record names, counted in bytes of the file's content. */
export interface ByteEvidence {
  /** In clusters the volume's map shows as in use by other files now. */
  readonly usedByOthers: number;
  /** In clusters that a file deleted later had taken. */
  readonly takenLater: number;
  /** In clusters that other files or states hold too, which were meant to share them: nothing was written over them. */
  readonly shared?: number;
  /** Of which nothing says whether they are of the time the record speaks for: what kept them is damaged. */
  readonly inDoubt?: number;
  /** Whose place is not known (a part of the record is gone). */
  readonly lost: number;
  /** Where the bytes of the first two stand: disk byte ranges, sorted and apart; none where both are 0. */
  readonly foreign?: readonly Range[];
}

export const ALL_BYTES_THERE: ByteEvidence = { usedByOthers: 0, takenLater: 0, lost: 0 };

/** A place where the bytes of a file stand, or may stand. */
export interface Placed {
  readonly layout: Layout;
  readonly evidence: ByteEvidence;
  /** Whether a record says so; otherwise it is supposed, and only the content itself can prove it. */
  readonly sure: boolean;
  /** It stands in blocks that are not the file's own any more, though its record is a live one (of an earlier state): it is looked into. */
  readonly unguarded?: boolean;
  /** A checksum that is kept of the content was compared with it, and agrees: nothing else need be looked at. */
  readonly vouched?: boolean;
  /** Nobody has looked at its bytes yet, and no record vouches for them: it is not checked until somebody does. */
  readonly unlooked?: boolean;
  /** What a person should know of why it is taken for the place. */
  readonly note?: string;
}

/**
 * Why content cannot be read here: sealed with a key of its owner; kept by a cloud folder and never stored here; the record that says where it
 * stands is gone; it is a link, or kept in a way that is not followed; nothing but a list, or the bin's record, names the file.
 */
export const ABSENCES = ["encrypted", "cloud-only", "record-damaged", "not-followed", "named-only"] as const;
export type Absence = (typeof ABSENCES)[number];

/** What a record says of its file's content. "none": there is none to read, as of a folder. */
export type Content =
  | { readonly kind: "none" }
  | { readonly kind: "placed"; readonly likeliest: Placed; readonly others: readonly Placed[] }
  | { readonly kind: "absent"; readonly why: Absence; readonly note: string };

export const NO_CONTENT: Content = { kind: "none" };
export const absent = (why: Absence, note: string): Content => ({ kind: "absent", why, note });

/** The content of a deleted file whose record says that it has none: on volumes in use most of these had some. */
export const EMPTIED = absent(
  "record-damaged",
  "Its record says that it is empty; it may have been emptied as it was deleted, or deleted before its size was written. Where its content stood is not known.",
);

/** Content that stands in one place, of which a record is sure unless given otherwise. */
export const placed = (layout: Layout, evidence: ByteEvidence = ALL_BYTES_THERE, sure = true): Content => ({
  kind: "placed",
  likeliest: { layout, evidence, sure },
  others: [],
});

/** A record of which only the content itself can prove where it stands. */
export function unproven(record: FileRecord): FileRecord {
  const { content } = record;
  return content.kind === "placed" ? { ...record, content: { ...content, likeliest: { ...content.likeliest, sure: false } } } : record;
}

/** Where a file's content stands, as likely as can be said; null: it cannot be read, or there is none. */
export const likeliest = ({ content }: Pick<FileRecord, "content">): Placed | null =>
  content.kind === "placed" ? content.likeliest : null;

/** One name of one file or folder, as the file system's own records give it. */
export interface FileRecord {
  /** Where the record stands, in words a technician can look up (for instance "MFT record 42"). */
  readonly reference: string;
  readonly state: "live" | "deleted";
  readonly type: "file" | "folder";
  /** From the volume's root, "/" first; "/?/…" where the parents are not known. */
  readonly path: string;
  readonly name: string;
  /** A part of the name is gone: a record of the same path need not be of the same file. */
  readonly incompleteName?: boolean;
  /** The name's bytes as stored. */
  readonly rawName: Uint8Array;
  /** Bytes. */
  readonly size: number;
  /** UTC milliseconds; null when not set. */
  readonly created: number | null;
  readonly modified: number | null;
  readonly changed: number | null;
  /** Whether `created` and `modified` are local times given as if they were UTC; by default as the volume says. */
  readonly localTimes?: boolean;
  /** When it was deleted, where something says; UTC milliseconds. */
  readonly deletedAt?: number | null;
  /** Where its bytes stand. Another place than the likeliest is taken when the content speaks for it and against the first. */
  readonly content: Content;
  /** In a folder of this computer: the file below it whose bytes the layout counts; otherwise it counts those of the disk. */
  readonly file?: string | null;
  /** What all names of one file share, where the store says so. */
  readonly identity?: string;
  /** It was found outside the file system's present records: one of an earlier file system, or one cut off from it. */
  readonly leftover?: boolean;
  /** A backup made it: of which of its sets it is (null: it has none), and when that was made (UTC milliseconds; null: not known). */
  readonly backup?: { readonly set: string | null; readonly asOf: number | null };
  /** True for the file system's own files. */
  readonly system: boolean;
  /** Named alternate streams: name, bytes, and where they stand (null: they cannot be read). */
  readonly streams: readonly { readonly name: string; readonly size: number; readonly layout: Layout | null }[];
  /** Names this file has on the volume. */
  readonly links: number;
  /** What of `FILE_MARK` it has; none by default. */
  readonly marks?: number;
  readonly notes: readonly string[];
}

export interface RecordBatch {
  readonly records: readonly FileRecord[];
  /** Give this to `readRecords` to go on after this batch. */
  readonly resume: Checkpoint;
  /** Units of work done and in all (records of the file system's table). */
  readonly done: number;
  readonly total: number;
  /** Of a reading for leftovers: what it noted since the batch before, for another one to go on with. */
  readonly noted?: readonly number[];
}

/** A volume opened for reading. */
export interface FileSystem {
  readonly clusterSize: number;
  readonly label: string | null;
  readonly notes: readonly string[];
  /** Its times are local times of the device that wrote them: a record gives them as if they were UTC. */
  readonly localTimes?: boolean;
  /** Which clusters are in use (of a backup file: can be followed); null when the volume's own map cannot be read. */
  readonly allocation: UsedMap | null;
  /** Disk byte offset of the cluster the map counts from. */
  readonly allocationStart: number;
  /** All records, in batches of `step` units of work, from a checkpoint on (null: the start). */
  readRecords(from: Checkpoint | null, step: number): Generator<RecordBatch, void, void>;
  /**
   * What is looked for outside the present records: of a file system that was there before, of folders nothing leads to any more; null: nothing
   * is. `readLeftovers` reads it. @param part of the volume (bytes from its beginning), where not all of it is gone through
   */
  leftovers?(part: Range): Leftovers | null;
  /**
   * All records, thoroughly: of what was written as a backup, past every damage, with contents looked at. The whole of it, or a part (bytes
   * from its beginning). `readRecords` of such a volume is light: it follows what is sound, and looks at no content.
   */
  readThorough?(from: Checkpoint | null, step: number, part?: Range): Generator<RecordBatch, void, void>;
  /** Earlier states of the volume that can be opened as volumes of their own. @param thorough of a damaged backup file past its damage, however large it is */
  states?(thorough?: boolean): StateOfVolume[];
  /** Its own records cover what only its states have: these need not be gone through for that. */
  readonly recordsCoverStates?: true;
  /** What does not add up in the volume, in plain words. Nothing is repaired. */
  findings?(): Finding[];
}

/** A volume as it was: kept by its file system on purpose (a snapshot), not written over yet (a checkpoint), or written as a backup (a set). */
export interface StateOfVolume {
  /** How it is opened (`openFileSystem`). */
  readonly view: string;
  readonly kind: "snapshot" | "checkpoint" | "set";
  readonly label: string;
  /** UTC milliseconds; null: not known. */
  readonly asOf: number | null;
  /** The computer that made it, where something says. */
  readonly machine?: string | null;
  readonly notes?: readonly string[];
}

/** One thing that does not add up. */
export interface Finding {
  readonly what: string;
  /** How often. */
  readonly count: number;
  /** Some of the places or files in question. */
  readonly examples: readonly string[];
}

/** The structures of a volume cannot be followed at all. The message says what was expected. */
export class FileSystemError extends Error {
  constructor(message: string) {
    super(message);
    this.name = "FileSystemError";
  }
}

import type { Range } from "../../bytes/range-set";
import type { Block, Stream } from "./block";

/** A set of the medium, as far as its own block is readable. */
export interface TapeSet {
  /** Where its first block stands, or stood. */
  readonly at: number;
  /** Its own number; null: its block is lost. */
  readonly number: number | null;
  readonly name: string | null;
  readonly user: string | null;
  /** The local time at which it was written, as if it were UTC; null: not known. */
  readonly date: number | null;
  /** Quarters of an hour ahead of UTC; null: not recorded. */
  readonly timeZone: number | null;
  readonly encrypted: boolean;
}

/** A volume of the machine that was backed up, as far as its block is readable. */
export interface TapeVolume {
  readonly device: string | null;
  readonly name: string | null;
  readonly machine: string | null;
}

/** What a folder's block says, or what follows of it from others. */
export interface TapeFolder {
  readonly id: number;
  /** Parts of its path, from the volume's root. */
  readonly parts: readonly string[];
}

/** What went before an entry and shows where it belongs. */
export interface Context {
  readonly set: TapeSet | null;
  readonly volume: TapeVolume | null;
}

/** How the bytes of an entry's streams are to be taken. */
export interface Trouble {
  /** Bytes that were slipped in before the place where the chain broke (negative: taken out); 0: none, null: not known. */
  readonly slip: number | null;
  /** Where the next thing stands that can be followed. */
  readonly until: number;
}

/** A file, or the remains of one. */
export interface FileEntry {
  readonly kind: "file";
  /** null: its block is lost. */
  readonly block: Block | null;
  /** Its block has a wrong checksum: what it says may be wrong. */
  readonly damagedHeader: boolean;
  readonly name: { readonly text: string; readonly raw: Uint8Array } | null;
  readonly folder: TapeFolder | null;
  readonly folderId: number | null;
  readonly context: Context;
  readonly streams: readonly Stream[];
  /** Content without a stream header of its own. */
  readonly bare: Range | null;
  readonly trouble: Trouble | null;
  /** The medium ends in it. */
  readonly cut: boolean;
  /** Where the contents of its medium end. */
  readonly dataEnd: number;
  /** It begins before the part that is read. */
  readonly beforePart: boolean;
  /** It goes on with what the medium before had begun. */
  readonly continues: boolean;
}

export interface FolderEntry {
  readonly kind: "folder";
  readonly block: Block;
  readonly folder: TapeFolder;
  readonly damagedHeader: boolean;
  readonly context: Context;
}

export interface SetEntry {
  readonly kind: "set";
  readonly set: TapeSet;
  /** It goes on with what the medium before had begun. */
  readonly continues: boolean;
}

/** A stretch that could not be followed; of no length where bytes are missing there. */
export interface GapEntry {
  readonly kind: "gap";
  readonly start: number;
  readonly end: number;
}

/** Everything before the place it is at has been given out. */
export interface StepEntry {
  readonly kind: "step";
}
export const STEP: StepEntry = { kind: "step" };

export type Entry = FileEntry | FolderEntry | SetEntry | GapEntry | StepEntry;

/** Where a walk goes on, and the blocks from which it knew what it knew there. Bytes of the medium. */
export interface WalkFrom {
  readonly at: number;
  readonly set: number | null;
  readonly volume: number | null;
  readonly folder: number | null;
}

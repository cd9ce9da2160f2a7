import { FILE_MARK } from "../bytes/file-marks";
import type { OwnAttribute } from "./attribute-dump";
import { RESOURCE_FORK } from "./two-files";

/** An extended attribute made of a named stream. */
export interface StreamAttribute extends OwnAttribute {
  /** The stream's own name. */
  readonly stream: string;
}

/** What a file carries beside its content, as far as it is to go along with it. */
export interface FileFacts {
  /** UTC milliseconds; null: not known. */
  readonly modified: number | null;
  readonly created: number | null;
  readonly readOnly: boolean;
  readonly hidden: boolean;
  /** Named streams, forks and extended attributes, as extended attributes. */
  readonly attributes: readonly StreamAttribute[];
}

export const NO_FACTS: FileFacts = { modified: null, created: null, readOnly: false, hidden: false, attributes: [] };

/** What of it stands with the file at the destination, as it was read there again. */
export interface Carried {
  /** Its date of change, to two seconds: file systems that count less finely are ordinary. */
  readonly modified: boolean;
  readonly readOnly: boolean;
  readonly hidden: boolean;
  readonly created: boolean;
  /** Names of the streams that stand there with their bytes. */
  readonly streams: readonly string[];
}

export const NOTHING_CARRIED: Carried = { modified: false, readOnly: false, hidden: false, created: false, streams: [] };

/** Everybody's own attributes have this before their names (xattr(7)). */
const OWN = "user.";
/** A resource fork among the attributes of a file, as Macs call it there. */
const FORK_NAME = "com.apple.ResourceFork";

/** Bytes of a name with what stands before it, and of a value, at most (xattr(7)). */
const LONGEST_NAME = 255;
export const LARGEST_VALUE = 65_536;

/** How a named stream is called as an extended attribute of its file; null: it cannot be one. */
export function attributeName(stream: { readonly name: string; readonly size: number }): string | null {
  const name = OWN + (stream.name === RESOURCE_FORK ? FORK_NAME : stream.name);
  return stream.size <= LARGEST_VALUE && Buffer.byteLength(name) <= LONGEST_NAME && !name.includes("\0") && name.length > OWN.length
    ? name
    : null;
}

/** The two marks of a file. */
export const marksOf = (marks: number | null | undefined): Pick<FileFacts, "readOnly" | "hidden"> => ({
  readOnly: ((marks ?? 0) & FILE_MARK.readOnly) !== 0,
  hidden: ((marks ?? 0) & FILE_MARK.hidden) !== 0,
});

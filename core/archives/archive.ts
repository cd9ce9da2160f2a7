import type { ByteSource } from "../bytes/byte-source";
import type { Coding } from "../bytes/codecs";
import type { Layout } from "../bytes/layout";

/** One file or folder of an archive. */
export interface ArchiveEntry {
  /** As the archive has it, parts apart by slashes; without one at its beginning or end. */
  readonly path: string;
  readonly type: "file" | "folder" | "link";
  /** Only a password opens its content. */
  readonly encrypted: boolean;
  /** Bytes of its content. */
  readonly size: number;
  /** UTC milliseconds, or (`localTime`) a local time as if it were UTC; null: not given. */
  readonly modified: number | null;
  readonly localTime: boolean;
  /** Which of `FILE_MARK` it has, added up. */
  readonly marks: number;
  /** What was found of its content: its checksum agrees, or all of it stands in what has none; it is damaged; it breaks off; it was not looked at. */
  readonly standing: "sound" | "damaged" | "broken-off" | "not-checked" | "encrypted" | "not-followed";
  /** Bytes from its beginning that are there. */
  readonly present: number;
  readonly note: string | null;
  /** Where its bytes stand in the archive, and how they are coded (null: as they are); null: not in one piece, or in a way that is not followed. */
  readonly stored: { readonly at: number; readonly length: number; readonly coding: Coding | null } | null;
  /** Where its bytes stand in the archive, where that is not one stretch from its beginning on: it is kept without its holes, or began elsewhere. */
  readonly layout?: Layout;
  /** Where in its file it goes on, which began in an earlier part of an archive that has several. */
  readonly restFrom?: number;
  /** The content as far as it is there. */
  open(): ByteSource;
}

/** What an archive holds, as far as it can be read. */
export interface ArchiveReading {
  readonly entries: readonly ArchiveEntry[];
  /** Which names stood in a folder when it was made, where it lists them: by the folder's path. */
  readonly listings: ReadonlyMap<string, ReadonlySet<string>>;
  readonly notes: readonly string[];
  /** Nothing says that it held more than is listed. */
  readonly isAll: boolean;
  /** It was compressed as a whole: places of its entries are those of what it unpacks to, which is got again from its bytes alone, or not. */
  readonly packed?: "plain" | "mended";
}

/** Plain bytes of one archive that are unpacked for comparing checksums when it is listed. */
export const MOST_CHECKED = 2 ** 32;

/** A path of an archive without what could lead out of it; null: nothing is left. */
export function ownPath(name: string): string | null {
  const parts = name
    .replaceAll("\\", "/")
    .split("/")
    .filter((part) => part !== "" && part !== "." && part !== "..");
  return parts.length > 0 ? parts.join("/") : null;
}

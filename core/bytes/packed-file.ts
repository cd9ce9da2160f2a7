import { BlockReader } from "./block-reader";
import type { ByteSource } from "./byte-source";

/** What is known of one file that was compressed by itself. */
export interface PackedFile {
  readonly name: string;
  /** UTC milliseconds; null: not kept. */
  readonly modified: number | null;
  /** All of it was unpacked, and no checksum speaks against it. */
  readonly isSound: boolean;
  /** A checksum that was compared vouches for all of it. */
  readonly isVouched: boolean;
}

/** What is known of the file, as the view under which its store is opened. */
export const viewOf = ({ name, modified, isSound, isVouched }: PackedFile): string => JSON.stringify([name, modified, isSound, isVouched]);

/** What a view says of a file; null: it is none of such a store. */
export function readView(view: string | null): PackedFile | null {
  try {
    const [name, modified, isSound, isVouched] = JSON.parse(view ?? "") as unknown[];
    return typeof name === "string" && (modified === null || typeof modified === "number")
      ? { name, modified, isSound: isSound === true, isVouched: isVouched === true }
      : null;
  } catch {
    return null;
  }
}

/** RFC 1952, 2.3.1: bytes of a GZIP file's header. MTIME counts seconds since 1970, 0: not kept. */
const HEADER = { mark: "\x1f\x8b\x08", flags: 3, modified: 4, size: 10, extraFlag: 4, nameFlag: 8 } as const;
/** Bytes of a name that are read. */
const MOST_NAME = 1024;
/** Endings of the names of compressed files (common practice, no published source). */
const ENDING = /\.(?:gz|bz2|xz)$/i;

/**
 * Reads what a compressed file says of the file in it.
 * @param packedName what the compressed file is called: so, without its ending, is the file that keeps no name
 */
export function readPackedName(source: ByteSource, packedName: string): Pick<PackedFile, "name" | "modified"> {
  const kept = gzipHeader(new BlockReader(source));
  const name = ownName(kept?.name ?? "") || ownName(packedName).replace(ENDING, "") || "content";
  return { name, modified: kept?.modified ?? null };
}

function gzipHeader(reader: BlockReader): { name: string | null; modified: number | null } | null {
  if (!reader.has(0, HEADER.mark) || reader.size < HEADER.size + 2) return null;
  const flags = reader.u8(HEADER.flags);
  const seconds = reader.u32(HEADER.modified);
  const modified = seconds === 0 ? null : seconds * 1000;
  if ((flags & HEADER.nameFlag) === 0) return { name: null, modified };
  const at = HEADER.size + ((flags & HEADER.extraFlag) === 0 ? 0 : 2 + reader.u16(HEADER.size));
  const bytes = reader.bytes(Math.min(at, reader.size), Math.max(0, Math.min(MOST_NAME, reader.size - at)));
  const end = bytes.indexOf(0);
  return { name: end > 0 ? nameOf(bytes.subarray(0, end)) : null, modified };
}

/** The format says ISO 8859-1; what is written is mostly what the system had, UTF-8. */
function nameOf(bytes: Uint8Array): string {
  try {
    return new TextDecoder("utf-8", { fatal: true }).decode(bytes);
  } catch {
    return Array.from(bytes, (byte) => String.fromCharCode(byte)).join("");
  }
}

/** A name without folders, and without what no name has. */
const ownName = (name: string): string => {
  const last = name.slice(Math.max(name.lastIndexOf("/"), name.lastIndexOf("\\")) + 1);
  return last === "." || last === ".." ? "" : last;
};

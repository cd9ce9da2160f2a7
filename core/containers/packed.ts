import { unpackArchive } from "../archives/unpack";
import type { ByteSource } from "../bytes/byte-source";
import { unpackHead } from "../bytes/whole-file";
import type { Container } from "./container";

/** Where a TAR header has its mark (POSIX.1-2017, pax). */
const TAR_MARK = { at: 257, text: "ustar" } as const;

/** A TAR archive that is compressed as a whole (gzip, bzip2, xz): what it unpacks to, as far as it goes. null: it is none. */
export function openPacked(file: ByteSource): Container | null {
  const head = unpackHead(file, TAR_MARK.at + TAR_MARK.text.length);
  if (!head || String.fromCharCode(...head.subarray(TAR_MARK.at)) !== TAR_MARK.text) return null;
  const unpacked = unpackArchive(file);
  if (!unpacked) return null;
  return { kind: "packed", form: null, disk: unpacked.content, identity: null, created: null, notes: unpacked.notes };
}

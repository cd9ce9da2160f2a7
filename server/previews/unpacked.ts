import { MemorySource } from "../../core/bytes/byte-source";
import { readZipDirectory } from "../../core/formats/zip/zip";
import { Problem } from "../problem";

/** Bytes that a document of packed parts may hold unpacked, and parts it may have, to be opened while somebody waits. */
const MOST_BYTES = 1 << 27;
const MOST_PARTS = 50_000;

/**
 * Refuses a document whose own list of contents says that it unpacks to more than can be held. What lies about its sizes is ended by the
 * memory limit of the process that opens it.
 * @throws Problem with what to do instead
 */
export function checkUnpacked(bytes: Uint8Array): void {
  const members = readZipDirectory(new MemorySource(bytes));
  if (!Array.isArray(members)) return;
  const total = members.reduce((sum, { plain }) => sum + plain, 0);
  if (total > MOST_BYTES || members.length > MOST_PARTS)
    throw new Problem("Unpacked, this document is larger than can be shown here: it may have been made to be. Restore it to open it.", 413);
}

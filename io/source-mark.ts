import { createHash } from "node:crypto";
import { type ByteSource, readBytes } from "../core/bytes/byte-source";

const SAMPLE = 64 << 10;

/**
 * A short mark of a disk by which it is known again: SHA-256, hexadecimal, over its size and its first, middle and last 64 KiB.
 * @returns null where these cannot be read in full, so that nothing can be said
 */
export function markOf(disk: ByteSource): string | null {
  const hash = createHash("sha256").update(`${disk.size}\n`);
  const length = Math.min(SAMPLE, disk.size);
  for (const at of [0, Math.floor((disk.size - length) / 2), disk.size - length]) {
    const bytes = readBytes(disk, at, length);
    if (disk.unreadable(at, length).length > 0) return null;
    hash.update(bytes);
  }
  return hash.digest("hex");
}

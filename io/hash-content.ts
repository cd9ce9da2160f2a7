import { createHash } from "node:crypto";
import type { ByteSource } from "../core/bytes/byte-source";

const STEP = 1 << 20;

/** Reads all of a content. @returns its SHA-256, hexadecimal */
export function hashContent(content: ByteSource): string {
  const hash = createHash("sha256");
  const block = new Uint8Array(Math.min(STEP, Math.max(1, content.size)));
  for (let at = 0; at < content.size; at += STEP) {
    const part = block.subarray(0, Math.min(STEP, content.size - at));
    content.read(at, part);
    hash.update(part);
  }
  return hash.digest("hex");
}

import { parseBuffer } from "bplist-parser";
import { parse as parseXml } from "plist";

const MAX_BYTES = 16 << 20;

/** A property list, binary or XML. @returns null when it is none */
export function readPropertyList(bytes: Uint8Array): unknown {
  if (bytes.length > MAX_BYTES) return null;
  try {
    const head = String.fromCharCode(...bytes.subarray(0, 8));
    if (head.startsWith("bplist0")) return (parseBuffer(Buffer.from(bytes)) as unknown[])[0];
    return head.includes("<") ? parseXml(new TextDecoder().decode(bytes)) : null;
  } catch {
    return null;
  }
}

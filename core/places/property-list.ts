import { parseBuffer } from "bplist-parser";
import { parse as parseXml } from "plist";

const MAX_DEPTH = 24;
const MOST_PATHS = 5000;
const MAX_BYTES = 16 << 20;

/** A property list, binary or XML. @returns null when it is none */
function readPropertyList(bytes: Uint8Array): unknown {
  if (bytes.length > MAX_BYTES) return null;
  try {
    const head = String.fromCharCode(...bytes.subarray(0, 8));
    if (head.startsWith("bplist0")) return (parseBuffer(Buffer.from(bytes)) as unknown[])[0];
    return head.includes("<") ? parseXml(new TextDecoder().decode(bytes)) : null;
  } catch {
    return null;
  }
}

/** The absolute paths a list of recent items names, as paths below the root of the start volume or as `/Volumes/…`. */
export function recentPaths(bytes: Uint8Array): string[] {
  const found = new Set<string>();
  const look = (value: unknown, depth: number): void => {
    if (depth > MAX_DEPTH || found.size >= MOST_PATHS) return;
    if (typeof value === "string") {
      const path = pathOf(value);
      if (path) found.add(path);
    } else if (value instanceof Uint8Array) {
      for (const path of bookmarkPaths(value)) found.add(path);
    } else if (Array.isArray(value)) for (const each of value) look(each, depth + 1);
    else if (value && typeof value === "object") for (const each of Object.values(value)) look(each, depth + 1);
  };
  look(readPropertyList(bytes), 0);
  return [...found];
}

function pathOf(text: string): string | null {
  if (text.length > 4096) return null;
  if (text.startsWith("file://")) {
    try {
      return decodeURIComponent(new URL(text).pathname).replace(/\/$/, "") || null;
    } catch {
      return null;
    }
  }
  return /^\/(?:Users|Volumes|private|Applications|Library)\/./.test(text) && !text.includes("\0") ? text.replace(/\/$/, "") : null;
}

const utf8 = new TextDecoder();
/** A bookmark: items of length, type and bytes, and a first table that leads to the parts of the path (from memory, no published source). */
const BOOKMARK = { magic: "book", headerSize: 12, pathKey: 0x1004, text: 0x0101, list: 0x0601, mostParts: 128 } as const;

function bookmarkPaths(bytes: Uint8Array): string[] {
  if (bytes.length < 52 || String.fromCharCode(...bytes.subarray(0, 4)) !== BOOKMARK.magic) return [];
  const view = new DataView(bytes.buffer, bytes.byteOffset, bytes.byteLength);
  try {
    const base = view.getUint32(BOOKMARK.headerSize, true);
    const table = base + view.getUint32(base, true);
    const entries = view.getUint32(table + 16, true);
    for (let index = 0; index < entries && index < 256; index += 1) {
      const at = table + 20 + 12 * index;
      if (view.getUint32(at, true) !== BOOKMARK.pathKey) continue;
      const list = base + view.getUint32(at + 4, true);
      if (view.getUint32(list + 4, true) !== BOOKMARK.list) return [];
      const count = Math.min(BOOKMARK.mostParts, view.getUint32(list, true) / 4);
      const parts = Array.from({ length: count }, (_, part) => {
        const item = base + view.getUint32(list + 8 + 4 * part, true);
        if (view.getUint32(item + 4, true) !== BOOKMARK.text) throw new RangeError("not a text");
        const length = view.getUint32(item, true);
        if (item + 8 + length > bytes.length) throw new RangeError("past the end");
        return utf8.decode(bytes.subarray(item + 8, item + 8 + length));
      });
      return parts.length > 0 ? [`/${parts.join("/")}`] : [];
    }
  } catch {
    // Cut short: it leads nowhere.
  }
  return [];
}

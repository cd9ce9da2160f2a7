import { Cursor } from "../bytes/cursor";
import { Malformed } from "../bytes/malformed";
import { readPropertyList } from "../bytes/property-list";
import { isDamage } from "../formats/reader-faults";

const MAX_DEPTH = 24;
const MOST_PATHS = 5000;

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
  const cursor = new Cursor(bytes);
  try {
    const base = cursor.u32(BOOKMARK.headerSize);
    const table = base + cursor.u32(base);
    const entries = cursor.u32(table + 16);
    for (let index = 0; index < entries && index < 256; index += 1) {
      const at = table + 20 + 12 * index;
      if (cursor.u32(at) !== BOOKMARK.pathKey) continue;
      const list = base + cursor.u32(at + 4);
      if (cursor.u32(list + 4) !== BOOKMARK.list) return [];
      const count = Math.min(BOOKMARK.mostParts, Math.floor(cursor.u32(list) / 4));
      const parts = Array.from({ length: count }, (_, part) => {
        const item = base + cursor.u32(list + 8 + 4 * part);
        if (cursor.u32(item + 4) !== BOOKMARK.text) throw new Malformed("not a text");
        return utf8.decode(cursor.slice(item + 8, cursor.u32(item)));
      });
      return parts.length > 0 ? [`/${parts.join("/")}`] : [];
    }
  } catch (error) {
    // Cut short: it leads nowhere.
    if (!isDamage(error)) throw error;
  }
  return [];
}

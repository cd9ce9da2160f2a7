import { readPropertyList } from "../bytes/property-list";

/** Attributes a system keeps of where a file came from and when it was last used, by the ends of their names (common practice, no published source). */
const CAME_FROM = /:kMDItemWhereFroms$/;
const LAST_USED = /\.lastuseddate#PS$/;
const MOST_BYTES = 65_536;
const MOST_PLACES = 4;

/** Whether an attribute is one of those that say where a file came from, or when it was used. */
export const tellsOfUse = (name: string): boolean => CAME_FROM.test(name) || LAST_USED.test(name);

/** What such an attribute says, in plain words; null: nothing that can be read. */
export function describeUse(name: string, bytes: Uint8Array): string | null {
  if (bytes.length > MOST_BYTES) return null;
  if (CAME_FROM.test(name)) {
    const list = readPropertyList(bytes);
    const places = (Array.isArray(list) ? list : [list]).filter((each): each is string => typeof each === "string" && each !== "");
    return places.length > 0 ? `Downloaded or received from: ${places.slice(0, MOST_PLACES).join(", ")}.` : null;
  }
  // Seconds and nanoseconds since 1970, 64 bits each, little-endian.
  if (!LAST_USED.test(name) || bytes.length < 16) return null;
  const seconds = Number(new DataView(bytes.buffer, bytes.byteOffset, bytes.byteLength).getBigUint64(0, true));
  const used = seconds > 0 && seconds < 7_258_118_400 ? new Date(seconds * 1000) : null;
  return used && `Last opened ${used.toISOString().slice(0, 16).replace("T", " ")} UTC, as the system noted.`;
}

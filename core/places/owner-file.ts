import { decodeUtf16le } from "../bytes/text";

/** Who had a document open, as the file beside it says. */
export interface Owner {
  readonly user: string;
  readonly host: string | null;
  /** As it is written there (the computer's local time); null: not given. */
  readonly since: string | null;
}

/**
 * The `~$…` file some office programs lay beside an open document: a length and the user's name, then the same in UTF-16 from
 * byte 54 or 55 on; `.~lock.…#`: fields between commas (both common practice, no published source).
 */
export function readOwnerFile(bytes: Uint8Array): Owner | null {
  if (bytes.length === 0) return null;
  const comma = bytes.indexOf(0x2c);
  if (comma >= 0 && bytes.length < 2048 && bytes.every((byte) => byte >= 0x20 || byte === 0x0a || byte === 0x0d)) {
    const [full = "", user = "", host = "", since = ""] = new TextDecoder()
      .decode(bytes)
      .replace(/[;\r\n]+$/, "")
      .split(",");
    const name = full.trim() || user.trim();
    return name || host ? { user: name || "somebody", host: host.trim() || null, since: since.trim() || null } : null;
  }
  const length = bytes[0] as number;
  if (length === 0 || length > 53 || bytes.length < 1 + length) return null;
  for (const at of [54, 55]) {
    if (at + 2 + length * 2 > bytes.length || bytes[at] !== length || bytes[at + 1] !== 0) continue;
    const wide = decodeUtf16le(bytes.subarray(at + 2, at + 2 + length * 2));
    if (/^[\p{L}\p{N}\p{P}\p{Zs}]+$/u.test(wide)) return { user: wide, host: null, since: null };
  }
  const user = new TextDecoder("windows-1252").decode(bytes.subarray(1, 1 + length)).trim();
  return user ? { user, host: null, since: null } : null;
}

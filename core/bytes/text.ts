const utf16le = new TextDecoder("utf-16le");
/** Bytes of a name: building the string directly is several times faster than a decoder call for each. */
const SHORT = 512;

/** UTF-16LE bytes as text. A lone surrogate becomes U+FFFD; the raw bytes are kept beside the text where it matters. */
export function decodeUtf16le(bytes: Uint8Array): string {
  return (bytes.length <= SHORT ? withoutSurrogates(bytes, 0) : null) ?? utf16le.decode(bytes);
}

/** Text of UTF-16 units; null: there are surrogates among them. @param low where in a unit its low byte stands */
function withoutSurrogates(bytes: Uint8Array, low: 0 | 1): string | null {
  let text = "";
  for (let i = 0; i + 1 < bytes.length; i += 2) {
    const unit = (bytes[i + low] as number) | ((bytes[i + 1 - low] as number) << 8);
    if (unit >= 0xd800 && unit < 0xe000) return null;
    text += String.fromCharCode(unit);
  }
  return text;
}

/** UTF-16BE bytes as text. A lone surrogate becomes U+FFFD. */
export function decodeUtf16be(bytes: Uint8Array): string {
  const plain = bytes.length <= SHORT ? withoutSurrogates(bytes, 1) : null;
  if (plain !== null) return plain;
  const turned = new Uint8Array(bytes.length & ~1);
  for (let i = 0; i + 1 < bytes.length; i += 2) {
    turned[i] = bytes[i + 1] as number;
    turned[i + 1] = bytes[i] as number;
  }
  return utf16le.decode(turned);
}

/** Bytes as characters of the same numbers: for marks and names in ASCII. The caller bounds their number. */
export const asciiText = (bytes: Uint8Array): string => String.fromCharCode(...bytes);

/** A stored file name as one path component: what would break a path (slash, NUL) becomes U+FFFD. */
export function pathComponent(name: string): string {
  return name.includes("/") || name.includes("\0") ? name.replace(/[/\0]/g, "\uFFFD") : name;
}

/** The beginning of a text, of at most `most` UTF-16 units, with a mark where it is cut. */
export const shortened = (text: string, most: number): string => (text.length > most ? `${text.slice(0, most)} …` : text);

/** Characters up to which it is quicker to write a text here than to have it written. */
const WRITTEN_HERE = 48;

/** Writes a text as UTF-8. @returns how many bytes it takes */
export function writeText(to: Buffer, text: string, at: number): number {
  if (text.length > WRITTEN_HERE) return to.write(text, at, "utf8");
  for (let i = 0; i < text.length; i += 1) {
    const code = text.charCodeAt(i);
    if (code >= 0x80) return to.write(text, at, "utf8");
    to[at + i] = code;
  }
  return text.length;
}

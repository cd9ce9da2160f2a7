/** Bytes by which the encoding of a text is known. */
const MOST_LOOKED = 1 << 18;
/** Of a text in units of two bytes without a mark: this share of them at least has one zero byte, always at the same place (common practice). */
const LEAST_WIDE = 0.4;
const LEAST_UNITS = 8;
/** Characters of UTF-8 beyond ASCII for each damaged one, at least: a text in another encoding has hardly any. */
const LEAST_SOUND = 4;

export type TextEncoding = "utf-8" | "utf-16le" | "utf-16be" | "windows-1252";

/** Finds the encoding of a text by its mark, by its zero bytes, as UTF-8 where it is that but for damage and a cut end, else as the common 8-bit code. */
export function encodingOf(bytes: Uint8Array): TextEncoding {
  const [first, second] = bytes;
  if (first === 0xff && second === 0xfe) return "utf-16le";
  if (first === 0xfe && second === 0xff) return "utf-16be";
  const head = bytes.subarray(0, MOST_LOOKED);
  return wideOrder(head) ?? (isUtf8(head) ? "utf-8" : "windows-1252");
}

/** Bytes as text. */
export const decodeText = (bytes: Uint8Array): string => new TextDecoder(encodingOf(bytes)).decode(bytes);

/** In which order the two bytes of a unit come, where most units have one zero byte; null: they do not. */
function wideOrder(bytes: Uint8Array): TextEncoding | null {
  const units = bytes.length >> 1;
  if (units < LEAST_UNITS) return null;
  let high = 0;
  let low = 0;
  for (let i = 0; i < units; i += 1) {
    const [even, odd] = [bytes[2 * i] as number, bytes[2 * i + 1] as number];
    if (even !== 0 && odd === 0) high += 1;
    else if (even === 0 && odd !== 0) low += 1;
  }
  if (high >= units * LEAST_WIDE && low * 10 < high) return "utf-16le";
  return low >= units * LEAST_WIDE && high * 10 < low ? "utf-16be" : null;
}

function isUtf8(bytes: Uint8Array): boolean {
  // The last character may be cut: as a stream, it would go on.
  const text = new TextDecoder("utf-8").decode(bytes, { stream: true });
  let sound = 0;
  let damaged = 0;
  for (let i = 0; i < text.length; i += 1) {
    const code = text.charCodeAt(i);
    if (code === 0xfffd) damaged += 1;
    else if (code > 0x7f) sound += 1;
  }
  return damaged === 0 || sound >= damaged * LEAST_SOUND;
}

import type { ByteSource } from "../../bytes/byte-source";
import { readBytes } from "../../bytes/byte-source";

/** Control characters that do not occur in text: all but tab, line feed, vertical tab, form feed, carriage return, escape. */
export const REFUSED = Uint8Array.from({ length: 256 }, (_, byte) =>
  (byte < 32 && ![9, 10, 11, 12, 13, 27].includes(byte)) || byte === 127 ? 1 : 0,
);

export type Encoding = "utf-8" | "latin1" | "utf-16le" | "utf-16be";

export interface TextRun {
  readonly encoding: Encoding;
  /** Bytes from the beginning to the last one that is still text. */
  readonly length: number;
}

const STEP = 1 << 16;
/** Text runs longer than this are cut there. */
export const MOST_TEXT = 1 << 28;

export function wideMark(head: Uint8Array): "utf-16le" | "utf-16be" | null {
  if (head[0] === 0xff && head[1] === 0xfe) return "utf-16le";
  return head[0] === 0xfe && head[1] === 0xff ? "utf-16be" : null;
}

/** How far the text that begins a source goes, and how it is written. Null: it does not begin with text. */
export function textRun(source: ByteSource, most = MOST_TEXT): TextRun | null {
  const wide = wideMark(readBytes(source, 0, Math.min(2, source.size)));
  if (wide) return wideRun(source, wide, most);
  const end = Math.min(source.size, most);
  // The 8-bit code goes as far as UTF-8 or farther; where UTF-8 ends early, another code was meant.
  let utf8 = -1;
  let pending = 0;
  let any = false;
  const step = new Uint8Array(Math.min(STEP, (end + 3) & ~3));
  const words = new Int32Array(step.buffer);
  for (let at = 0; at < end; at += STEP) {
    const block = step.subarray(0, Math.min(STEP, end - at));
    source.read(at, block);
    for (let i = 0; i < block.length; i += 1) {
      if ((i & 3) === 0 && pending === 0) i = 4 * plainWords(words, i >> 2, block.length >> 2);
      if (i >= block.length) break;
      const byte = block[i] as number;
      if (byte >= 32 && byte < 127 && pending === 0) continue;
      if (REFUSED[byte]) return finish(at + i, utf8, any);
      if (utf8 >= 0) continue;
      if (pending > 0) {
        if ((byte & 0xc0) === 0x80) pending -= 1;
        else utf8 = at + i;
      } else if (byte >= 0x80) {
        any = true;
        pending = byte >= 0xc2 && byte < 0xe0 ? 1 : byte >= 0xe0 && byte < 0xf0 ? 2 : byte >= 0xf0 && byte < 0xf5 ? 3 : -1;
        if (pending < 0) {
          utf8 = at + i;
          pending = 0;
        }
      }
    }
  }
  return finish(end, utf8, any);
}

/** The first of the words [from, end) that holds anything but printable ASCII: nearly all of nearly every text is nothing else. */
function plainWords(words: Int32Array, from: number, end: number): number {
  for (let i = from; i < end; i += 1) {
    const word = words[i] as number;
    // The highest bit of a byte marks: of 128 and more, of less than 32, of 127. A loan from a neighbour can only mark too often.
    if (((word | (word - 0x20202020) | (word + 0x01010101)) & 0x80808080) !== 0) return i;
  }
  return end;
}

/** @param broken where it stopped being UTF-8; -1: nowhere */
function finish(end: number, broken: number, any: boolean): TextRun | null {
  if (end === 0) return null;
  if (broken < 0) return { encoding: "utf-8", length: end };
  // Good UTF-8 before (letters beyond ASCII, or a good stretch of text) and a break: there the text ends.
  if ((any && broken > 512) || broken > 65_536) return { encoding: "utf-8", length: broken };
  return { encoding: "latin1", length: end };
}

function wideRun(source: ByteSource, encoding: "utf-16le" | "utf-16be", most: number): TextRun | null {
  const end = Math.min(source.size, most);
  const big = encoding === "utf-16be" ? 1 : 0;
  for (let at = 2; at + 1 < end; at += STEP) {
    const block = readBytes(source, at, Math.min(STEP, (end - at) & ~1));
    for (let i = 0; i + 1 < block.length; i += 2) {
      const unit = ((block[i + 1 - big] as number) << 8) | (block[i + big] as number);
      if (unit === 0 || (unit < 32 && REFUSED[unit]) || unit >= 0xfffe || (unit >= 0xe000 && unit < 0xf900))
        return at + i > 4 ? { encoding, length: at + i } : null;
    }
  }
  return { encoding, length: end & ~1 };
}

/** The text of a run, up to `most` bytes of it. */
export function textOf(source: ByteSource, { encoding, length }: TextRun, most: number): string {
  const text = new TextDecoder(encoding === "latin1" ? "windows-1252" : encoding).decode(readBytes(source, 0, Math.min(length, most)));
  return text.charCodeAt(0) === 0xfeff ? text.slice(1) : text;
}

/** Characters whose codes are below this are counted by their code: nearly all of most texts. */
const ASCII = 0x80;

/** Whether text reads like something written: words with spaces between, or a table; not fill, code or packed data in letters. */
export function isReadable(text: string): boolean {
  const sample = text.slice(0, 8192);
  const plain = new Uint32Array(ASCII);
  const counts = new Map<string, number>();
  let [letters, spaces, foreign] = [0, 0, 0];
  for (let at = 0; at < sample.length; ) {
    const code = sample.charCodeAt(at);
    if (code < ASCII) {
      plain[code] = (plain[code] as number) + 1;
      at += 1;
      continue;
    }
    const mark = String.fromCodePoint(sample.codePointAt(at) as number);
    at += mark.length;
    counts.set(mark, (counts.get(mark) ?? 0) + 1);
    if (/\s/.test(mark)) spaces += 1;
    else if (/[\p{L}\p{N}]/u.test(mark)) letters += 1;
    if (mark < "\u0100") foreign += 1;
  }
  plain.forEach((count, code) => {
    if (count === 0) return;
    const mark = String.fromCharCode(code);
    counts.set(mark, count);
    if (/\s/.test(mark)) spaces += count;
    else if (/[A-Za-z0-9]/.test(mark)) letters += count;
  });
  const all = sample.length;
  if (all < 64 || counts.size < 10) return false;
  counts.delete(" ");
  const top = Math.max(...counts.values());
  // Letters of Latin alphabets beyond ASCII are sprinkled in; where they are many, it was no text of one byte a letter.
  if (foreign / all > 0.2 || top / all > 0.3 || (letters + spaces) / all < 0.6) return false;
  return isTable(sample) || (spaces / all >= 0.04 && spaces / all <= 0.6);
}

/** Whether most lines have the same number (one or more) of the same separator. */
export function isTable(text: string): boolean {
  const lines = text.split(/\r?\n/).slice(0, 40);
  if (lines.length < 4) return false;
  const whole = lines.slice(0, -1).filter((line) => line !== "");
  return [",", ";", "\t", "|"].some((separator) => {
    const count = (line: string) => line.replace(/"(?:[^"]|"")*"/g, "").split(separator).length - 1;
    const first = count(whole[0] ?? "");
    return first > 0 && whole.length >= 3 && whole.filter((line) => count(line) === first).length >= 0.9 * whole.length;
  });
}

import { type ByteSource, readBytes } from "../bytes/byte-source";
import { damaged, type Format, hasAscii, SOUND, type Verdict } from "./format";

const TAIL = 2048;
const MAX_ENTRIES = 200_000;
const latin1 = (bytes: Uint8Array) => {
  let text = "";
  for (const byte of bytes) text += String.fromCharCode(byte);
  return text;
};

/** PDF: ISO 32000-1, 7.5 (header, cross-reference table and streams, trailer). */
export const pdf: Format = {
  id: "pdf",
  kind: "documents",
  title: "PDF document",
  extensions: ["pdf"],
  recognise: (head) => hasAscii(head, 0, "%PDF-"),
  check,
};

function check(source: ByteSource): Verdict {
  const tailAt = Math.max(0, source.size - TAIL);
  const tail = latin1(readBytes(source, tailAt, source.size - tailAt));
  const end = tail.lastIndexOf("%%EOF");
  const start = /startxref\s+(\d+)\s+%%EOF/g;
  let offset: number | undefined;
  for (let match = start.exec(tail); match; match = start.exec(tail)) offset = Number(match[1]);
  if (end < 0 || offset === undefined) return damaged(source.size, "the document breaks off before its end");
  if (offset >= source.size) return damaged(tailAt + end, "the table of contents would stand past the end of the file");
  const seen = new Set<number>();
  for (let next: number | null = offset; next !== null && !seen.has(next); ) {
    seen.add(next);
    const result = checkSection(source, next);
    if (typeof result !== "number" && result !== null) return result;
    next = result;
    if (seen.size > 64) break;
  }
  return SOUND;
}

/** One cross-reference section: a verdict when it is bad, else the offset of the one before it (null: none). */
function checkSection(source: ByteSource, at: number): Verdict | number | null {
  const head = latin1(readBytes(source, at, Math.min(64, source.size - at)));
  if (/^\s*\d+\s+\d+\s+obj/.test(head)) return null;
  if (!/^\s*xref/.test(head)) return damaged(at, "the table of contents is not where the document says");
  const text = latin1(readBytes(source, at, Math.min(source.size - at, MAX_ENTRIES * 20)));
  const lines = /\s*(\d+) (\d+)\s*[\r\n]+/y;
  lines.lastIndex = text.indexOf("xref") + 4;
  for (let part = lines.exec(text); part; part = lines.exec(text)) {
    const first = Number(part[1]);
    const count = Number(part[2]);
    for (let i = 0; i < count; i += 1) {
      const entry = text.slice(lines.lastIndex + i * 20, lines.lastIndex + i * 20 + 18);
      if (!/^\d{10} \d{5} [nf]/.test(entry)) return damaged(at + lines.lastIndex + i * 20, "the table of contents is damaged");
      if (entry[17] !== "n") continue;
      const object = Number(entry.slice(0, 10));
      const mark = latin1(readBytes(source, object, Math.min(32, Math.max(0, source.size - object))));
      if (!new RegExp(`^\\s*${first + i}\\s+${Number(entry.slice(11, 16))}\\s+obj`).test(mark)) {
        return damaged(Math.min(object, source.size), `object ${first + i} is not where the table of contents says`);
      }
    }
    lines.lastIndex += count * 20;
  }
  const previous = /\/Prev\s+(\d+)/.exec(text.slice(lines.lastIndex, lines.lastIndex + 4096));
  const before = previous ? Number(previous[1]) : null;
  return before !== null && before < source.size ? before : null;
}

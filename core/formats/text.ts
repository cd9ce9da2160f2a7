import { type ByteSource, readBytes } from "../bytes/byte-source";
import { damaged, type Format, SOUND, type Verdict } from "./format";

const STEP = 1 << 16;
const MAX_CHECKED = 1 << 24;
/** Control characters that do not occur in text: all but tab, line feed, vertical tab, form feed, carriage return, escape. */
const REFUSED = Uint8Array.from({ length: 256 }, (_, byte) => (byte < 32 && ![9, 10, 11, 12, 13, 27].includes(byte) ? 1 : 0));

function isWide(head: Uint8Array): boolean {
  return (head[0] === 0xff && head[1] === 0xfe) || (head[0] === 0xfe && head[1] === 0xff);
}

/** Plain text in any 8-bit code or UTF-8, or UTF-16 with its mark: told by having no control characters. */
export const text: Format = {
  id: "text",
  kind: "documents",
  title: "text",
  extensions: [
    "txt",
    "csv",
    "tsv",
    "md",
    "log",
    "ini",
    "json",
    "xml",
    "html",
    "htm",
    "svg",
    "eml",
    "ics",
    "vcf",
    "tex",
    "srt",
    "css",
    "js",
    "ts",
    "py",
    "c",
    "h",
    "sql",
    "yaml",
    "yml",
    "bat",
    "ps1",
    "sh",
    "cfg",
    "conf",
  ],
  recognise: (head) => head.length > 0 && (isWide(head) || firstControl(head) < 0),
  check,
};

function check(source: ByteSource): Verdict {
  if (isWide(readBytes(source, 0, Math.min(2, source.size)))) return SOUND;
  const end = Math.min(source.size, MAX_CHECKED);
  for (let at = 0; at < end; at += STEP) {
    const found = firstControl(readBytes(source, at, Math.min(STEP, end - at)));
    if (found >= 0) return damaged(at + found, "from here on it is not text");
  }
  return SOUND;
}

function firstControl(bytes: Uint8Array): number {
  for (let i = 0; i < bytes.length; i += 1) if (REFUSED[bytes[i] as number]) return i;
  return -1;
}

import { type ByteSource, readBytes } from "../bytes/byte-source";
import { type Format, HEAD_BYTES, type Kind, type Verdict } from "./format";
import { gif } from "./gif";
import { gzip } from "./gzip";
import { isoMediaFormats } from "./iso-media";
import { jpeg } from "./jpeg";
import { pdf } from "./pdf";
import { png } from "./png";
import { riffFormats } from "./riff";
import { signatureFormats } from "./signatures";
import { sqlite } from "./sqlite";
import { text } from "./text";
import { zipFormats } from "./zip";

/** All formats, in the order they are asked: special ones before general ones, text last. */
export const FORMATS: readonly Format[] = [
  png,
  jpeg,
  gif,
  pdf,
  ...zipFormats,
  ...riffFormats,
  ...isoMediaFormats,
  gzip,
  sqlite,
  ...signatureFormats,
  text,
];

const byExtension = new Map<string, Format>();
for (const format of FORMATS)
  for (const extension of format.extensions) if (!byExtension.has(extension)) byExtension.set(extension, format);

/** Kinds of extensions whose content the bench does not look into. Common practice, no published source. */
const OTHER_KINDS: Readonly<Record<string, Kind>> = {
  pages: "documents",
  numbers: "sheets",
  key: "documents",
  wps: "documents",
  dxf: "drawings",
  skp: "drawings",
  raf: "pictures",
  mpg: "video",
  mts: "video",
  aac: "audio",
  mbox: "mail",
  dbx: "mail",
};
const KIND_OF_TEXT: Readonly<Record<string, Kind>> = {
  csv: "sheets",
  tsv: "sheets",
  svg: "drawings",
  eml: "mail",
  ini: "application-data",
  json: "application-data",
  log: "application-data",
};

/** The extension of a file name, lower case, without dot; "" when there is none. */
export function extensionOf(name: string): string {
  const dot = name.lastIndexOf(".");
  return dot > 0 && name.length - dot <= 12 ? name.slice(dot + 1).toLowerCase() : "";
}

/** The kind of a file by its name. */
export function kindOf(name: string): Kind {
  const extension = extensionOf(name);
  return KIND_OF_TEXT[extension] ?? byExtension.get(extension)?.kind ?? OTHER_KINDS[extension] ?? "other";
}

/** The format these first bytes begin, or null when none is known. */
export function recognise(head: Uint8Array, nameHint = ""): Format | null {
  // Formats that share their beginning (the office archives) are told apart by the name when it fits.
  const hinted = byExtension.get(extensionOf(nameHint));
  if (hinted && hinted !== text && hinted.recognise(head)) return hinted;
  return FORMATS.find((format) => format.recognise(head)) ?? null;
}

/** What the content of a file says of it. */
export type ContentFinding =
  /** Begins as its name promises, and (where there is a check) is sound to its end. */
  | { readonly finding: "agrees"; readonly format: string; readonly checked: boolean }
  /** Begins as something else than its name promises. */
  | { readonly finding: "differs"; readonly expected: string; readonly format: string | null }
  | { readonly finding: "damaged"; readonly format: string; readonly at: number; readonly reason: string }
  /** Nothing but zero bytes. */
  | { readonly finding: "zeros" }
  /** The name promises nothing that could be checked. */
  | { readonly finding: "unknown"; readonly format: string | null };

/** Content longer than this is only recognised, not followed to its end, when a pass looks at every file. */
const MAX_CHECKED = 1 << 26;

/** Compares a file's content with what its name promises. */
export function examineContent(content: ByteSource, name: string): ContentFinding {
  const head = readBytes(content, 0, Math.min(HEAD_BYTES, content.size));
  if (content.size === 0) return { finding: "unknown", format: null };
  const expected = byExtension.get(extensionOf(name));
  if (isZero(head) && onlyZeros(content)) return { finding: "zeros" };
  const found = recognise(head, name);
  if (!expected) return found?.check && found !== text ? judged(found, content) : { finding: "unknown", format: found?.id ?? null };
  if (!expected.recognise(head)) return { finding: "differs", expected: expected.title, format: found?.id ?? null };
  return judged(expected, content);
}

function judged(format: Format, content: ByteSource): ContentFinding {
  const verdict = format.check && content.size <= MAX_CHECKED ? runCheck(format, content) : null;
  if (verdict?.verdict === "damaged") return { finding: "damaged", format: format.id, at: verdict.at, reason: verdict.reason };
  // Text that is nothing but text proves little: any other text would pass as well.
  return { finding: "agrees", format: format.id, checked: verdict?.verdict === "sound" && format !== text };
}

/** Runs a format's check; whatever a hostile file makes it trip over becomes a verdict. */
export function runCheck(format: Format, content: ByteSource): Verdict {
  try {
    return format.check ? format.check(content) : { verdict: "cannot-tell", reason: "this type is only known by its beginning" };
  } catch (error) {
    return { verdict: "damaged", at: 0, reason: error instanceof Error ? error.message : "the structure cannot be followed" };
  }
}

const ZERO_STEP = 1 << 18;

/** Whether the content is zeros throughout; of a long one, samples along its length are taken. */
function onlyZeros(content: ByteSource): boolean {
  const step = Math.max(ZERO_STEP, Math.floor(content.size / 64));
  for (let at = 0; at < content.size; at += step) {
    if (!isZero(readBytes(content, at, Math.min(ZERO_STEP, content.size - at)))) return false;
  }
  return true;
}

function isZero(bytes: Uint8Array): boolean {
  for (let i = 0; i < bytes.length; i += 1) if (bytes[i] !== 0) return false;
  return true;
}

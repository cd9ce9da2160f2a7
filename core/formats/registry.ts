import { type ByteSource, readBytes } from "../bytes/byte-source";
import { PastEnd } from "../bytes/past-end";
import { archiveFormats, systemFormats } from "./archives";
import { bitmapFormats } from "./bitmaps";
import { compoundFormats } from "./compound";
import { compressedFormats } from "./compressed";
import { diskImageFormats } from "./disk-images";
import { drawingFormats } from "./drawings";
import { matroska, webm } from "./ebml";
import { cannotTell, damaged, type Extent, type Format, HEAD_BYTES, type Kind, type Summary, type Verdict } from "./format";
import { gif } from "./gif";
import { isoMediaFormats } from "./iso-media/iso-media";
import { jpeg } from "./jpeg/jpeg";
import { registeredKind } from "./kinds";
import { aiff, flac } from "./lossless-audio";
import { mp3 } from "./mpeg-audio";
import { pdf } from "./pdf/pdf";
import { png } from "./png";
import { propertyList } from "./property-list";
import { runReader } from "./reader-faults";
import { riffFormats } from "./riff";
import { sqliteFormats } from "./sqlite/sqlite";
import { streamFormats } from "./streams";
import { markedUpFormats } from "./texts/marked-up";
import { messageFormats } from "./texts/messages";
import { table, text, words } from "./texts/text";
import { tiffFormats } from "./tiff";
import { zipFormats } from "./zip/zip";

/** All formats, in the order they are asked: special ones before general ones, text last. */
export const FORMATS: readonly Format[] = [
  png,
  jpeg,
  gif,
  pdf,
  ...zipFormats,
  ...riffFormats,
  ...isoMediaFormats,
  ...compressedFormats,
  ...archiveFormats,
  ...sqliteFormats,
  ...compoundFormats,
  ...tiffFormats,
  ...bitmapFormats,
  webm,
  matroska,
  mp3,
  flac,
  aiff,
  ...streamFormats,
  ...systemFormats,
  propertyList,
  ...diskImageFormats,
  ...drawingFormats,
  ...markedUpFormats,
  ...messageFormats,
  table,
  words,
  text,
];

export const formatById = new Map(FORMATS.map((format) => [format.id, format]));

const byExtension = new Map<string, Format>();
// A name that promises some text promises no more than text: many such files have no beginning of their own.
for (const format of [text, ...FORMATS])
  for (const extension of format.extensions) if (!byExtension.has(extension)) byExtension.set(extension, format);

/** Kinds of extensions that the registry of media types sorts otherwise than a client would. Common practice, no published source. */
const OTHER_KINDS: Readonly<Record<string, Kind>> = {
  wps: "documents",
  skp: "drawings",
  raf: "pictures",
  dbx: "mail",
  aac: "audio",
};
const KIND_OF_TEXT: Readonly<Record<string, Kind>> = {
  csv: "sheets",
  tsv: "sheets",
  svg: "drawings",
  dxf: "drawings",
  eml: "mail",
  mbox: "mail",
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
  return KIND_OF_TEXT[extension] ?? byExtension.get(extension)?.kind ?? OTHER_KINDS[extension] ?? registeredKind(extension) ?? "other";
}

/** The format these first bytes begin, or null when none is known. */
export function recognise(head: Uint8Array, nameHint = ""): Format | null {
  // Formats that share their beginning (the office archives) are distinguished by the name when it fits.
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
  | {
      readonly finding: "damaged";
      readonly format: string;
      readonly at: number;
      readonly reason: string;
      /** About how many bytes it should have had, where it is more than there are and something gives it. */
      readonly expected?: number;
    }
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
  // Of formats that share an ending, the one that is there is followed: text that is marked up, not any text.
  if (expected && found && found !== expected && found.extensions.includes(extensionOf(name))) return judged(found, content);
  if (!expected) return found?.follow && !found.loose ? judged(found, content) : { finding: "unknown", format: found?.id ?? null };
  if (!expected.recognise(head) && !expected.recogniseElsewhere?.(content))
    return { finding: "differs", expected: expected.title, format: found?.id ?? null };
  return judged(expected, content);
}

function judged(format: Format, content: ByteSource): ContentFinding {
  const looked = format.follow !== undefined && content.size <= MAX_CHECKED;
  const extent = looked ? runFollow(format, content) : null;
  const verdict = looked ? (extent?.verdict ?? isNone(format)) : null;
  if (verdict?.verdict === "damaged") {
    const expected = extent?.expected && extent.expected > content.size ? { expected: Math.round(extent.expected) } : {};
    return { finding: "damaged", format: format.id, at: verdict.at, reason: verdict.reason, ...expected };
  }
  // Where other bytes would pass as well, that nothing is wrong proves little.
  return { finding: "agrees", format: format.id, checked: verdict?.verdict === "sound" && !format.loose };
}

/** Follows a format's structure from the beginning of `source`; whatever a hostile file makes it trip over ends it there. */
export function runFollow(format: Format, source: ByteSource): Extent | null {
  return runReader(
    format.id,
    () => format.follow?.(source) ?? null,
    (error): Extent =>
      error instanceof PastEnd
        ? { size: source.size, closed: false, verdict: damaged(source.size, "it breaks off before its end") }
        : { size: 0, closed: false, verdict: damaged(0, "the structure cannot be followed") },
    { size: 0, closed: false, verdict: cannotTell("the bench could not follow it, which is a fault of the bench and not of the file") },
  );
}

/** Whether a file of this format is sound from its first to its last byte. */
export function runCheck(format: Format, content: ByteSource): Verdict {
  if (!format.follow) return cannotTell("this type is only known by its beginning");
  return runFollow(format, content)?.verdict ?? isNone(format);
}

const isNone = (format: Format) => damaged(0, `it does not hold together as a ${format.title}`);

/** What a file says of itself; nothing when it cannot be read. */
export const runSummary = (format: Format, content: ByteSource): Summary =>
  runReader(
    format.id,
    () => format.summarise?.(content) ?? {},
    () => ({}),
    {},
  );

/** The format of a whole content: its first bytes, and where they do not say enough, what is inside. */
export function identify(content: ByteSource, nameHint = ""): Format | null {
  const hinted = byExtension.get(extensionOf(nameHint));
  const head = readBytes(content, 0, Math.min(HEAD_BYTES, content.size));
  if (hinted?.recogniseElsewhere?.(content) && !hinted.recognise(head)) return hinted;
  const found = recognise(head, nameHint);
  return found && resolved(found, content);
}

/** A family's format by what is inside. */
export function resolved(format: Format, content: ByteSource): Format {
  const id = runReader(
    format.id,
    () => format.resolve?.(content) ?? null,
    () => null,
    null,
  );
  return (id ? formatById.get(id) : null) ?? format;
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

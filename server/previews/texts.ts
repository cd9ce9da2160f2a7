import { strFromU8, type UnzipFileInfo, unzip } from "fflate";
import iconv from "iconv-lite";
import mammoth from "mammoth";
import { MemorySource, readBytes } from "../../core/bytes/byte-source";
import { decodeText, encodingOf } from "../../core/bytes/text-encoding";
import { identify } from "../../core/formats/registry";
import type { StoredCopy } from "../items/queries";
import { Problem } from "../problem";
import { wholeContent, withContent } from "./content";
import type { TextPreview } from "./contract";
import { docWords, pptWords } from "./old-office";
import { htmlWords, mailWords, rtfWords } from "./said-texts";
import { checkUnpacked } from "./unpacked";
import { xmlWords } from "./xml";

const MAX_TEXT = 1 << 18;
const MAX_DOCUMENT = 1 << 25;
const MAX_PART = 1 << 24;
/** Bytes of all parts that are unpacked. */
const MAX_PARTS = 1 << 26;

/** The beginning of a text, decoded by its mark, as UTF-8 when it is that, else as the common 8-bit code. */
export async function textOf(copy: StoredCopy, asked: string | null): Promise<TextPreview> {
  return withContent(copy, (content) => {
    const bytes = Buffer.from(readBytes(content, 0, Math.min(MAX_TEXT, content.size)));
    const encoding = asked && iconv.encodingExists(asked) ? asked : encodingOf(bytes);
    return { text: iconv.decode(bytes, encoding), encoding, truncated: content.size > MAX_TEXT };
  });
}

/** The words of an office document, paragraph by paragraph; nothing of its form, links or scripts. */
export async function documentText(copy: StoredCopy): Promise<TextPreview> {
  const bytes = await wholeContent(copy, MAX_DOCUMENT, "document");
  const format = identify(new MemorySource(bytes), copy.name)?.id ?? "";
  const text = await wordsIn(bytes, format, copy.name).catch((error: unknown) => {
    if (error instanceof Problem) throw error;
    throw new Problem("This document is too damaged to be read. Its bytes are shown instead.", 422);
  });
  return { text: text.slice(0, MAX_TEXT), encoding: "document", truncated: text.length > MAX_TEXT };
}

/** What a document says, by what its content is. */
async function wordsIn(bytes: Buffer, format: string, name: string): Promise<string> {
  if (format === "rtf") return rtfWords(bytes);
  if (format === "html") return htmlWords(decodeText(bytes));
  if (format === "eml") return mailWords(bytes);
  if (format === "doc") return docWords(bytes);
  if (format === "ppt") return pptWords(bytes);
  return /\.(od[tp]|pptx)$/i.test(name) || format === "pptx" || format === "odt" || format === "odp" ? partsText(bytes) : wordsOf(bytes);
}

async function wordsOf(buffer: Buffer): Promise<string> {
  checkUnpacked(buffer);
  return (await mammoth.extractRawText({ buffer })).value;
}

/** Parts with words: `content.xml` of an OpenDocument file, the slides of an Office Open XML one (ECMA-376, part 1, 13). */
const WORDY = /^(content\.xml|ppt\/slides\/slide\d+\.xml)$/;

function partsText(bytes: Buffer): Promise<string> {
  return new Promise((done, failed) => {
    let room = MAX_PARTS;
    const fits = ({ name, originalSize }: UnzipFileInfo) => {
      if (!WORDY.test(name) || originalSize > MAX_PART || originalSize > room) return false;
      room -= originalSize;
      return true;
    };
    unzip(bytes, { filter: fits }, (error, parts) => {
      if (error) return failed(error);
      const names = Object.keys(parts).sort((a, b) => a.localeCompare(b, "en", { numeric: true }));
      if (names.length === 0) return failed(new Error("no part with words"));
      done(names.map((name) => xmlWords(strFromU8(parts[name] as Uint8Array), MAX_TEXT)).join("\n\n"));
    });
  });
}

import iconv from "iconv-lite";
import mammoth from "mammoth";
import sharp from "sharp";
import { CachedSource, readBytes } from "../../core/bytes/byte-source";
import { LayoutSource } from "../../core/bytes/layout";
import { HEAD_BYTES } from "../../core/formats/format";
import { recognise } from "../../core/formats/registry";
import { text as textFormat } from "../../core/formats/text";
import { ReadOnlyFile } from "../../io/read-only-file";
import { Problem } from "../problem";
import { permittedSource } from "../sources/source-folders";
import type { PreviewForm } from "./contract";
import type { StoredCopy } from "./queries";

const MAX_TEXT = 1 << 18;
const MAX_DOCUMENT = 1 << 25;
const MAX_PICTURE = 1 << 27;
const MAX_PIXELS = 200_000_000;
const MAX_HEX = 1 << 16;

/** Opens a copy's content, gives it to `use`, and closes the source again. */
export async function withContent<T>(copy: StoredCopy, use: (content: LayoutSource) => T | Promise<T>): Promise<T> {
  if (!copy.layout) throw new Problem("The content of this copy cannot be read; its notes say why.", 409);
  const file = new ReadOnlyFile(permittedSource(copy.sourcePath));
  try {
    return await use(new LayoutSource(new CachedSource(file), copy.layout));
  } finally {
    file.close();
  }
}

/** How a copy is best shown, by its content rather than by its name. */
export async function previewForm(copy: StoredCopy): Promise<PreviewForm> {
  if (!copy.layout || copy.size === 0) return "hex";
  return withContent(copy, (content) => {
    const format = recognise(readBytes(content, 0, Math.min(HEAD_BYTES, content.size)), copy.name);
    if (format?.kind === "pictures" && SHOWN_PICTURES.has(format.id)) return "picture";
    if (format?.id === "docx") return "document";
    return format === textFormat ? "text" : "hex";
  });
}

const SHOWN_PICTURES = new Set(["jpeg", "png", "gif", "webp", "tiff", "avif"]);

/** The picture drawn anew as WebP: nothing of the file itself reaches the browser. */
export async function picturePreview(copy: StoredCopy, longest: number): Promise<Buffer> {
  return withContent(copy, async (content) => {
    if (content.size > MAX_PICTURE) throw new Problem("This picture is too large to be shown here.", 413);
    const bytes = readBytes(content, 0, content.size);
    try {
      return await sharp(bytes, { failOn: "none", limitInputPixels: MAX_PIXELS })
        .rotate()
        .resize({ width: longest, height: longest, fit: "inside", withoutEnlargement: true })
        .webp({ quality: 82 })
        .toBuffer();
    } catch {
      throw new Problem("This picture is too damaged to be drawn.", 422);
    }
  });
}

/** The beginning of a text, decoded by its mark, as UTF-8 when it is that, else as the common 8-bit code. */
export async function textOf(copy: StoredCopy): Promise<{ text: string; encoding: string; truncated: boolean }> {
  return withContent(copy, (content) => {
    const bytes = Buffer.from(readBytes(content, 0, Math.min(MAX_TEXT, content.size)));
    const encoding = encodingOf(bytes);
    return { text: iconv.decode(bytes, encoding), encoding, truncated: content.size > MAX_TEXT };
  });
}

function encodingOf(bytes: Buffer): string {
  if (bytes[0] === 0xff && bytes[1] === 0xfe) return "utf-16le";
  if (bytes[0] === 0xfe && bytes[1] === 0xff) return "utf-16be";
  try {
    // The last character may be cut by the limit; a few bytes less never cut a sound text wrongly.
    new TextDecoder("utf-8", { fatal: true }).decode(bytes.length === MAX_TEXT ? bytes.subarray(0, bytes.lastIndexOf(10) + 1) : bytes);
    return "utf-8";
  } catch {
    return "windows-1252";
  }
}

/** The words of an office document, paragraph by paragraph. */
export async function documentText(copy: StoredCopy): Promise<{ text: string; encoding: string; truncated: boolean }> {
  return withContent(copy, async (content) => {
    if (content.size > MAX_DOCUMENT) throw new Problem("This document is too large to be shown here.", 413);
    try {
      const { value } = await mammoth.extractRawText({ buffer: Buffer.from(readBytes(content, 0, content.size)) });
      return { text: value.slice(0, MAX_TEXT), encoding: "document", truncated: value.length > MAX_TEXT };
    } catch {
      throw new Problem("This document is too damaged to be read.", 422);
    }
  });
}

export async function bytesOf(copy: StoredCopy, at: number, length: number): Promise<Uint8Array> {
  return withContent(copy, (content) => readBytes(content, Math.max(0, at), Math.max(0, Math.min(length, MAX_HEX, content.size - at))));
}

import { readBytes } from "../../core/bytes/byte-source";
import { LayoutSource } from "../../core/bytes/layout";
import { HEAD_BYTES } from "../../core/formats/format";
import { damagedOutline, type OutlinePart } from "../../core/formats/outline";
import { recognise } from "../../core/formats/registry";
import type { StoredCopy } from "../items/queries";
import { Problem } from "../problem";
import { openPermitted, withContent } from "./content";

const MAX_HEX = 1 << 16;
const STEP = 1 << 18;

export async function bytesOf(copy: StoredCopy, at: number, length: number): Promise<Uint8Array> {
  return withContent(copy, (content) => readBytes(content, Math.max(0, at), Math.max(0, Math.min(length, MAX_HEX, content.size - at))));
}

/** The parts of the content's structure, as far as its format is followed. */
export async function outlineFor(copy: StoredCopy): Promise<OutlinePart[]> {
  return copy.layout && copy.size > 0 ? withContent(copy, (content) => damagedOutline(content, copy.name)) : [];
}

/** Types the browser's own players and the PDF viewer are given; anything else is never sent as itself. */
const PLAYED: Readonly<Record<string, string>> = {
  pdf: "application/pdf",
  mp4: "video/mp4",
  webm: "video/webm",
  matroska: "video/webm",
  mov: "video/quicktime",
  "3gp": "video/mp4",
  m4a: "audio/mp4",
  opus: "audio/ogg",
  mp3: "audio/mpeg",
  flac: "audio/flac",
  ogg: "audio/ogg",
  wav: "audio/wav",
};

/** The content itself, or the asked range of it, for players. @throws Problem for content that is none of those types */
export async function playedContent(copy: StoredCopy, range: string | null): Promise<Response> {
  const format = await withContent(copy, (content) => recognise(readBytes(content, 0, Math.min(HEAD_BYTES, content.size)), copy.name));
  const type = format && PLAYED[format.id];
  if (!type || !copy.layout) throw new Problem("Content of this type is not played here.", 415);
  const [start, end] = rangeOf(range, copy.size);
  const { disk, close } = openPermitted(copy);
  const content = new LayoutSource(disk, copy.layout);
  let at = start;
  const body = new ReadableStream<Uint8Array>({
    pull(controller) {
      const length = Math.min(STEP, end - at);
      if (length <= 0) {
        close();
        controller.close();
        return;
      }
      controller.enqueue(readBytes(content, at, length));
      at += length;
    },
    cancel: close,
  });
  const partial = range !== null;
  return new Response(body, {
    status: partial ? 206 : 200,
    headers: {
      "Content-Type": type,
      "Content-Length": String(end - start),
      "Accept-Ranges": "bytes",
      // Even opened by itself in a window, nothing in it may run.
      "Content-Security-Policy": "sandbox; default-src 'none'",
      "Content-Disposition": "attachment",
      ...(partial ? { "Content-Range": `bytes ${start}-${end - 1}/${copy.size}` } : {}),
    },
  });
}

/** A single byte range (RFC 9110, 14.1.2) as start and end (exclusive). @throws Problem when it lies outside */
function rangeOf(header: string | null, size: number): [number, number] {
  if (header === null) return [0, size];
  const match = /^bytes=(\d*)-(\d*)$/.exec(header);
  const [, first = "", last = ""] = match ?? [];
  const start = first === "" ? Math.max(0, size - Number(last)) : Number(first);
  const end = first === "" || last === "" ? size : Math.min(size, Number(last) + 1);
  if (!match || (first === "" && last === "") || start >= end) throw new Problem("This part of the content is not there.", 416);
  return [start, end];
}

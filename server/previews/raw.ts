import { readBytes } from "../../core/bytes/byte-source";
import { RangeSet } from "../../core/bytes/range-set";
import { HEAD_BYTES } from "../../core/formats/format";
import { damagedOutline, type OutlinePart } from "../../core/formats/outline";
import { recognise } from "../../core/formats/registry";
import { bytesIn, gapsOf, OwnBytes } from "../../core/restore/gaps";
import { runTask } from "../content/pool";
import type { StoredCopy } from "../items/queries";
import { Problem } from "../problem";
import { withContent } from "./content";

/** Bytes given at once at most. */
const MAX_BYTES = 1 << 18;
const STEP = 1 << 18;

export async function bytesOf(copy: StoredCopy, at: number, length: number): Promise<Uint8Array> {
  return withContent(copy, (content) => readBytes(content, Math.max(0, at), Math.max(0, Math.min(length, MAX_BYTES, content.size - at))));
}

/** Bytes of a file in one part of what is given out, at most. */
export const OWN_STEP = 1 << 20;

/** Bytes of a content that are the file's own, zeros for the others, and how many of these there are. */
export async function ownBytesOf(copy: StoredCopy, at: number, length: number): Promise<{ bytes: Uint8Array; missing: number }> {
  return withContent(copy, (content) => {
    const wanted = Math.max(0, Math.min(length, OWN_STEP, content.size - at));
    const bytes = readBytes(new OwnBytes(content), at, wanted);
    const { unreadable, foreign } = gapsOf(content);
    return { bytes, missing: bytesIn(RangeSet.from([...unreadable, ...foreign]).within(at, at + wanted)) };
  });
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

/** How a content is read for a player: the id of the format it begins with, and stretches of its bytes. */
export interface ContentReader {
  begins(): Promise<string | null>;
  bytes(at: number, length: number): Promise<Uint8Array>;
}

const throughPool = (copyId: number): ContentReader => ({
  begins: () => runTask("begins", [copyId]),
  bytes: (at, length) => runTask("bytes", [copyId, at, length]),
});

/** The id of the format a content begins with; null: none is known. */
export const beginningOf = (copy: StoredCopy): Promise<string | null> =>
  withContent(copy, (content) => recognise(readBytes(content, 0, Math.min(HEAD_BYTES, content.size)), copy.name)?.id ?? null);

/** The content itself, or the asked range of it, for players. @throws Problem for content that is none of those types */
export async function playedContent(
  copy: StoredCopy,
  range: string | null,
  reader: ContentReader = throughPool(copy.id),
): Promise<Response> {
  const begins = await reader.begins();
  const type = begins && PLAYED[begins];
  if (!type || !copy.layout) throw new Problem("Content of this type is not played here.", 415);
  const [start, end] = rangeOf(range, copy.size);
  let at = start;
  const body = new ReadableStream<Uint8Array>({
    async pull(controller) {
      const length = Math.min(STEP, end - at);
      if (length <= 0) return controller.close();
      controller.enqueue(new Uint8Array(await reader.bytes(at, length)));
      at += length;
    },
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

import { type ByteSource, readBytes } from "../../bytes/byte-source";
import type { Coding } from "../../bytes/codecs";
import { Cursor } from "../../bytes/cursor";
import { diskRuns, type Layout, LayoutSource, layoutOf, type Segment, sliceLayout } from "../../bytes/layout";

/**
 * Files the system keeps compressed beside their empty main stream. [MS-FSCC] 2.1.2.1 names the reparse tag; what follows it and
 * the hidden stream's form are openly documented with the imaging format's tools; from memory: version 1 and provider 2 (files),
 * then version 1 and the coding.
 */
const REPARSE = { version: 8, provider: 12, fileVersion: 16, coding: 20, size: 24, files: 2 } as const;
export const CODED_STREAM = "WofCompressedData";
const CODINGS: readonly { readonly coding: Coding; readonly chunk: number }[] = [
  { coding: "xpress", chunk: 4096 },
  { coding: "lzx", chunk: 32_768 },
  { coding: "xpress", chunk: 8192 },
  { coding: "xpress", chunk: 16_384 },
];
/** The table has four bytes a chunk, eight in files from 4 GiB on. */
const WIDE_FROM = 2 ** 32;
const MAX_CHUNKS = 1 << 22;

/** How a reparse point says its file is coded; null when it says something else. */
export function systemCoding(reparse: Uint8Array): { coding: Coding; chunk: number } | null {
  if (reparse.length < REPARSE.size) return null;
  const cursor = new Cursor(reparse);
  if (cursor.u32(REPARSE.version) !== 1 || cursor.u32(REPARSE.provider) !== REPARSE.files || cursor.u32(REPARSE.fileVersion) !== 1)
    return null;
  return CODINGS[cursor.u32(REPARSE.coding)] ?? null;
}

/**
 * Where the plain content of such a file stands: the hidden stream begins with a table of where each chunk but the first
 * begins, counted from the table's end; a chunk as long as its plain bytes is stored as it is.
 * @param stream the hidden stream's layout
 * @param size plain bytes
 * @returns null when the stream cannot be what it should be
 */
export function systemCompressed(
  disk: ByteSource,
  stream: Layout,
  size: number,
  { coding, chunk }: { coding: Coding; chunk: number },
): { layout: Layout; notes: string[] } | null {
  const chunks = Math.ceil(size / chunk);
  const width = size >= WIDE_FROM ? 8 : 4;
  const tableBytes = Math.max(0, chunks - 1) * width;
  if (chunks > MAX_CHUNKS || tableBytes > stream.size) return null;
  const table = new Cursor(readBytes(new LayoutSource(disk, stream), 0, tableBytes));
  const begins = (index: number) =>
    index === 0 ? 0 : index === chunks ? stream.size - tableBytes : width === 8 ? table.u64((index - 1) * 8) : table.u32((index - 1) * 4);
  const segments: Segment[] = [];
  const notes: string[] = [];
  for (let index = 0; index < chunks; index += 1) {
    const plain = Math.min(chunk, size - index * chunk);
    const from = begins(index);
    const length = begins(index + 1) - from;
    const own =
      length > 0 && length <= plain && tableBytes + from + length <= stream.size ? sliceLayout(stream, tableBytes + from, length) : null;
    if (!own || own.some((segment) => segment.kind === "lost" || segment.kind === "coded")) {
      segments.push({ kind: "lost", length: plain });
      if (notes.length === 0) notes.push("Part of its compressed content cannot be followed; those bytes are missing.");
    } else if (length === plain) segments.push(...own);
    else segments.push(codedSegment(coding, plain, own));
  }
  return { layout: layoutOf(segments, size), notes };
}

function codedSegment(coding: Coding, length: number, own: readonly Segment[]): Segment {
  const held = own.find((segment) => segment.kind === "held");
  const from = diskRuns({ size: length, segments: own });
  if (held?.kind !== "held") return { kind: "coded", coding, length, from };
  return { kind: "coded", coding, length, from: [{ at: held.at, length: held.length }], held: held.bytes.slice() };
}

import { crc32 } from "node:zlib";
import { BlockReader } from "../bytes/block-reader";
import type { ByteSource } from "../bytes/byte-source";
import { InflateError, TooMuch } from "../bytes/inflate";
import { type DiskRun, LayoutSource, layoutOf } from "../bytes/layout";
import { PastEnd } from "../bytes/past-end";
import { breaksAt, cannotTell, damaged, type Extent, endsAt, type Format, hasAscii, type Summary } from "./format";
import { defined, exifTime } from "./tiff-directory";
import { unpackZlib } from "./zlib";

/** PNG: ISO/IEC 15948, clause 5 (signature, chunks: length, type, data, CRC). */
export const png: Format = {
  id: "png",
  kind: "pictures",
  title: "PNG picture",
  extensions: ["png"],
  signatures: [{ at: 0, mark: "\x89PNG\r\n\x1a\n" }],
  recognise: (head) => hasAscii(head, 0, "\x89PNG\r\n\x1a\n"),
  follow,
  summarise,
};

interface Chunk {
  readonly at: number;
  readonly type: string;
  readonly length: number;
}

/** A chunk's header, or null where none can stand. */
function chunkAt(reader: BlockReader, at: number): Chunk | null {
  const length = reader.u32be(at);
  const type = reader.ascii(at + 4, 4);
  return /^[A-Za-z]{4}$/.test(type) && length < 0x8000_0000 ? { at, type, length } : null;
}

const MOST_CHUNKS = 4_000_000;

function follow(source: ByteSource): Extent {
  const reader = new BlockReader(source);
  const data: { at: number; length: number }[] = [];
  let at = 8;
  try {
    for (let chunks = 0; chunks < MOST_CHUNKS; chunks += 1) {
      const chunk = chunkAt(reader, at);
      if (!chunk) return { ...breaksAt(at, "no chunk begins where the next one should"), proven: at };
      if (chunks === 0 && chunk.type !== "IHDR") return breaksAt(at, "the picture does not begin with its header");
      const end = at + 12 + chunk.length;
      if (end > source.size) return { ...breaksAt(source.size, "the picture breaks off before its end"), proven: at };
      let crc = 0;
      for (const block of reader.blocks(at + 4, end - 4)) crc = crc32(block.bytes, crc);
      if (chunk.type === "IDAT") data.push({ at: at + 8, length: chunk.length });
      if (reader.u32be(end - 4) !== crc) {
        const place = Math.max(at, chunk.type === "IDAT" ? breakInData(reader, data) : at);
        const verdict = damaged(place, `the checksum of the chunk ${chunk.type} does not match`, chunk.type === "IDAT" ? place : end);
        return { size: place, closed: false, verdict, proven: at };
      }
      at = end;
      if (chunk.type === "IEND") return picture(reader, data, at);
    }
  } catch (error) {
    if (!(error instanceof PastEnd)) throw error;
  }
  return breaksAt(Math.min(at, source.size), "the picture breaks off before its end");
}

/** Where the packed picture stops making sense: nearer to the damage than the chunk that holds it. */
function breakInData(reader: BlockReader, data: readonly DiskRun[]): number {
  const last = data[data.length - 1] as DiskRun;
  try {
    const { packed, length } = packedData(reader, data);
    unpackZlib(new BlockReader(packed), 0, length, MOST_UNPACKED);
  } catch (error) {
    if (error instanceof TooMuch) return last.at;
    if (!(error instanceof InflateError)) throw error;
    let left = error.at;
    for (const run of data) {
      if (left < run.length) return run.at + left;
      left -= run.length;
    }
  }
  return last.at + last.length;
}

function packedData(reader: BlockReader, data: readonly DiskRun[]): { packed: LayoutSource; length: number } {
  const length = data.reduce((sum, run) => sum + run.length, 0);
  return {
    length,
    packed: new LayoutSource(
      reader.source,
      layoutOf(
        data.map((run) => ({ kind: "disk", ...run })),
        length,
      ),
    ),
  };
}

/** Samples a pixel by colour type (table 11.1) and the passes of an interlaced picture (8.2): start and step of columns and rows. */
const SAMPLES: Readonly<Record<number, number>> = { 0: 1, 2: 3, 3: 1, 4: 2, 6: 4 };
const ADAM7 = [
  [0, 8, 0, 8],
  [4, 8, 0, 8],
  [0, 4, 4, 8],
  [2, 4, 0, 4],
  [0, 2, 2, 4],
  [1, 2, 0, 2],
  [0, 1, 1, 2],
] as const;
const MOST_UNPACKED = 1 << 29;

/** Bytes of each row of the picture unpacked, in their order, as its header promises; null: the header is damaged. */
export function pictureRows(reader: BlockReader): { rows: number; bytes: number }[] | null {
  const [width, height, depth, colour, interlaced] = [
    reader.u32be(16),
    reader.u32be(20),
    reader.u8(24),
    reader.u8(25),
    reader.u8(28) === 1,
  ] as const;
  const samples = SAMPLES[colour];
  if (!samples || width === 0 || height === 0 || ![1, 2, 4, 8, 16].includes(depth)) return null;
  const rows = (wide: number, high: number) => ({ rows: wide === 0 ? 0 : high, bytes: 1 + Math.ceil((wide * depth * samples) / 8) });
  return interlaced
    ? ADAM7.map(([x, dx, y, dy]) => rows(Math.ceil((width - x) / dx), Math.ceil((height - y) / dy)))
    : [rows(width, height)];
}

/** Bytes of the picture unpacked; null: the header is damaged. */
export function pictureBytes(reader: BlockReader): number | null {
  return pictureRows(reader)?.reduce((sum, { rows, bytes }) => sum + rows * bytes, 0) ?? null;
}

/** The chunks are right each by itself: the picture in them must have as many bytes as the header promises. */
function picture(reader: BlockReader, data: readonly DiskRun[], end: number): Extent {
  const expected = pictureBytes(reader);
  if (expected === null) return endsAt(end, { verdict: "damaged", at: 16, reason: "the picture's header is damaged" });
  if (expected > MOST_UNPACKED) return endsAt(end, cannotTell("the picture is too large to be followed"));
  const { packed, length } = packedData(reader, data);
  try {
    const { plain } = unpackZlib(new BlockReader(packed), 0, length, expected);
    if (plain < expected) return damagedPicture(data, end, "picture data are missing");
  } catch (error) {
    // Readers pass over what is too much.
    if (error instanceof TooMuch) return endsAt(end);
    if (!(error instanceof InflateError)) throw error;
    return damagedPicture(data, end, "the picture data cannot be unpacked");
  }
  return endsAt(end);
}

const damagedPicture = (data: readonly DiskRun[], end: number, reason: string): Extent =>
  endsAt(end, { verdict: "damaged", at: data[0]?.at ?? 8, reason });

function summarise(source: ByteSource): Summary {
  const reader = new BlockReader(source);
  const words: Record<string, string> = {};
  let dated: number | undefined;
  for (let at = 8; at + 12 <= source.size; ) {
    const chunk = chunkAt(reader, at);
    if (!chunk || chunk.type === "IDAT" || at + 12 + chunk.length > source.size) break;
    if (chunk.type === "tEXt" && chunk.length < 4096) {
      const [key = "", value = ""] = reader.ascii(at + 8, chunk.length).split("\0");
      words[key] = value;
    }
    if (chunk.type === "tIME" && chunk.length === 7)
      dated = Date.UTC(
        reader.u16be(at + 8),
        reader.u8(at + 10) - 1,
        reader.u8(at + 11),
        reader.u8(at + 12),
        reader.u8(at + 13),
        reader.u8(at + 14),
      );
    at += 12 + chunk.length;
  }
  return defined<Summary>({
    width: reader.u32be(16),
    height: reader.u32be(20),
    title: words.Title,
    author: words.Author,
    dated: dated ?? exifTime(words["date:create"]),
  });
}

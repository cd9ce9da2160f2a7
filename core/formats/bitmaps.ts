import { BlockReader } from "../bytes/block-reader";
import type { ByteSource } from "../bytes/byte-source";
import { following } from "./following";
import { breaksAt, type Extent, endsAt, type Format, hasAscii, type Summary } from "./format";

const BREAKS_OFF = "the picture breaks off before its end";

/** Sizes of the headers a bitmap can have (the published "Bitmap Storage" pages: core, info and its later versions). */
const HEADERS: ReadonlySet<number> = new Set([12, 16, 40, 52, 56, 64, 108, 124]);
const DEPTHS: ReadonlySet<number> = new Set([1, 2, 4, 8, 16, 24, 32]);

interface Bitmap {
  readonly width: number;
  readonly height: number;
  readonly depth: number;
  readonly compression: number;
  readonly imageSize: number;
}

function bitmapHeader(reader: BlockReader, at: number): Bitmap | null {
  const size = reader.u32(at);
  if (!HEADERS.has(size)) return null;
  const core = size === 12;
  const width = core ? reader.u16(at + 4) : reader.u32(at + 4) | 0;
  const height = Math.abs(core ? reader.u16(at + 6) : reader.u32(at + 8) | 0);
  const planes = reader.u16(at + (core ? 8 : 12));
  const depth = reader.u16(at + (core ? 10 : 14));
  const long = size >= 40;
  const compression = long ? reader.u32(at + 16) : 0;
  if (width <= 0 || width > 1 << 18 || height === 0 || height > 1 << 18 || planes !== 1 || !DEPTHS.has(depth) || compression > 13)
    return null;
  return { width, height, depth, compression, imageSize: long ? reader.u32(at + 20) : 0 };
}

/** BMP: the published "Bitmap Storage" layout. Its pixels have no checksum. */
const bmp: Format = {
  id: "bmp",
  kind: "pictures",
  title: "BMP picture",
  extensions: ["bmp", "dib"],
  signatures: [{ at: 0, mark: "BM" }],
  loose: true,
  recognise: (head) => hasAscii(head, 0, "BM") && head.length >= 26 && HEADERS.has(head[14] as number) && head[15] === 0,
  follow(source) {
    return asStated(source, (reader) => {
      const header = bitmapHeader(reader, 14);
      if (!header) return null;
      const pixelsAt = reader.u32(10);
      const plain = header.height * 4 * Math.ceil((header.width * header.depth) / 32);
      const packed = header.compression !== 0 && header.compression !== 3 && header.compression !== 6;
      const stated = reader.u32(2);
      if (pixelsAt < 26 || pixelsAt > 1 << 20) return null;
      // Some makers give no size, or a wrong one: the pixels are there in any case.
      const least = pixelsAt + (packed ? header.imageSize : plain);
      return Math.max(least, stated <= least + (1 << 16) ? stated : 0);
    });
  },
  summarise: (source) => sizeOf(bitmapHeader(new BlockReader(source), 14)),
};

const sizeOf = (header: { width: number; height: number } | null): Summary =>
  header ? { width: header.width, height: header.height } : {};

/** ICO and CUR: the published "Icons" layout: a list of pictures, each a bitmap without its file header or a PNG. */
const icon = (id: string, title: string, kind: number): Format => ({
  id,
  kind: "pictures",
  title,
  extensions: [id],
  signatures: [{ at: 0, mark: `\0\0${String.fromCharCode(kind)}\0` }],
  loose: true,
  recognise: (head) => {
    const count = (head[4] ?? 0) | ((head[5] ?? 0) << 8);
    return hasAscii(head, 0, `\0\0${String.fromCharCode(kind)}\0`) && count > 0 && count <= 64 && head.length >= 6 + 16 * count;
  },
  follow(source) {
    return asStated(source, (reader) => {
      const count = reader.u16(4);
      if (count === 0 || count > 64) return null;
      let end = 6 + 16 * count;
      for (let i = 0; i < count; i += 1) {
        const [size, at] = [reader.u32(6 + i * 16 + 8), reader.u32(6 + i * 16 + 12)];
        if (at < 6 + 16 * count || size < 40 || size > 1 << 24 || at > 1 << 26 || reader.u8(6 + i * 16 + 3) !== 0) return null;
        if (at + 8 <= reader.size && !reader.has(at, "\x89PNG") && reader.u32(at) !== 40) return null;
        end = Math.max(end, at + size);
      }
      return end;
    });
  },
  summarise: (source) => {
    const reader = new BlockReader(source);
    return { width: reader.u8(6) || 256, height: reader.u8(7) || 256 };
  },
});

/** Layered pictures: the published file format, "Photoshop File Formats" (header, then five sections with their lengths). */
const layered: Format = {
  id: "psd",
  kind: "pictures",
  title: "layered picture",
  extensions: ["psd", "psb"],
  signatures: [
    { at: 0, mark: "8BPS\0\x01\0\0" },
    { at: 0, mark: "8BPS\0\x02\0\0" },
  ],
  loose: true,
  recognise: (head) => hasAscii(head, 0, "8BPS\0"),
  follow(source) {
    return asStated(source, (reader) => {
      const big = reader.u16be(4) === 2;
      const [channels, height, width, depth] = [reader.u16be(12), reader.u32be(14), reader.u32be(18), reader.u16be(22)];
      if (channels === 0 || channels > 56 || height === 0 || width === 0 || ![1, 8, 16, 32].includes(depth)) return null;
      let at = 26;
      at += 4 + reader.u32be(at);
      at += 4 + reader.u32be(at);
      at += big ? 8 + reader.u64be(at) : 4 + reader.u32be(at);
      const compression = reader.u16be(at);
      at += 2;
      if (compression > 3) return null;
      if (compression === 0) return at + channels * height * Math.ceil((width * depth) / 8);
      // Zip-packed merged pictures give no length.
      if (compression > 1) return -1;
      const lines = channels * height;
      let packed = 0;
      for (let i = 0; i < lines; i += 1) packed += big ? reader.u32be(at + i * 4) : reader.u16be(at + i * 2);
      return at + lines * (big ? 4 : 2) + packed;
    });
  },
  summarise: (source) => {
    const reader = new BlockReader(source);
    return { width: reader.u32be(18), height: reader.u32be(14) };
  },
};

/** @param end where the file ends as its header says; null: it is no such file, -1: it does not say */
function asStated(source: ByteSource, end: (reader: BlockReader) => number | null): Extent | null {
  return following(source, BREAKS_OFF, (reader) => {
    const size = end(reader);
    if (size === null) return null;
    if (size < 0) return { size: source.size, closed: false, verdict: { verdict: "cannot-tell", reason: "its end is not stated" } };
    return size > source.size ? breaksAt(source.size, BREAKS_OFF, size) : endsAt(size);
  });
}

export const bitmapFormats: readonly Format[] = [bmp, icon("ico", "icon", 1), icon("cur", "pointer", 2), layered];

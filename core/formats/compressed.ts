import { crc32 } from "node:zlib";
import { BlockReader } from "../bytes/block-reader";
import type { ByteSource } from "../bytes/byte-source";
import { unpackBzip2 } from "../bytes/bzip2";
import { Crc64 } from "../bytes/crc64";
import { InflateError, inflate, TooMuch } from "../bytes/inflate";
import { lzma2Dictionary, unpackLzma2 } from "../bytes/lzma";
import { PastEnd } from "../bytes/past-end";
import { breaksAt, cannotTell, damaged, type Extent, endsAt, type Format, hasAscii, type Summary } from "./format";

/** More than this is not unpacked to check it. */
const MAX_UNPACKED = 1 << 28;
const TOO_MUCH = cannotTell("the archive unpacks to more than is checked");

/** Runs what unpacks; whatever it trips over becomes an extent. */
function unpacking(source: ByteSource, run: (reader: BlockReader) => Extent | null): Extent | null {
  try {
    return run(new BlockReader(source));
  } catch (error) {
    if (error instanceof TooMuch) return { size: source.size, closed: false, verdict: TOO_MUCH };
    if (error instanceof InflateError) return breaksAt(Math.min(error.at, source.size), error.reason);
    if (!(error instanceof PastEnd)) throw error;
    return breaksAt(source.size, "the archive breaks off before its end");
  }
}

/** Where the packed data of the GZIP member at `at` begin, and its name (RFC 1952, 2.3). */
export function gzipHeader(reader: BlockReader, at: number): { dataAt: number; name: string; modified: number } | null {
  const flags = reader.u8(at + 3);
  if (!reader.has(at, "\x1f\x8b\x08") || flags & 0xe0) return null;
  let next = at + 10;
  if (flags & 4) next += 2 + reader.u16(next);
  let name = "";
  if (flags & 8) {
    const end = reader.find("\0", next, next + 1024);
    if (end < 0) return null;
    name = new TextDecoder("latin1").decode(reader.bytes(next, end - next));
    next = end + 1;
  }
  if (flags & 16) {
    const end = reader.find("\0", next, next + 65_536);
    if (end < 0) return null;
    next = end + 1;
  }
  if (flags & 2) next += 2;
  return { dataAt: next, name, modified: reader.u32(at + 4) * 1000 };
}

/** Whether a header's hints are such as writers leave (RFC 1952, 2.3.1: XFL and OS). Four bytes of mark stand in any packed data. */
function hasUsualHints(reader: BlockReader): boolean {
  const [speed, system] = [reader.u8(8), reader.u8(9)];
  return (speed === 0 || speed === 2 || speed === 4) && (system <= 13 || system === 255);
}

function followGzip(source: ByteSource): Extent | null {
  const extent = followMembers(source);
  if (extent?.verdict.verdict !== "damaged") return extent;
  return source.size >= 10 && hasUsualHints(new BlockReader(source)) ? extent : null;
}

function followMembers(source: ByteSource): Extent | null {
  return unpacking(source, (reader) => {
    let at = 0;
    let left = MAX_UNPACKED;
    for (let members = 0; ; members += 1) {
      // Members may follow one another at once (2.2).
      const header = at + 18 <= source.size || members === 0 ? gzipHeader(reader, at) : null;
      if (!header) return members > 0 ? endsAt(at) : null;
      let crc = 0;
      const done = inflate(
        reader,
        header.dataAt,
        source.size,
        (plain) => {
          crc = crc32(plain, crc);
        },
        left,
      );
      left -= done.plain;
      if (done.end + 8 > source.size) return breaksAt(source.size, "the archive breaks off before its end");
      if (reader.u32(done.end) !== crc || reader.u32(done.end + 4) !== done.plain % 0x1_0000_0000)
        return { size: done.end + 8, closed: true, verdict: damaged(done.end, "the archive's checksum does not match") };
      at = done.end + 8;
    }
  });
}

const gzip: Format = {
  id: "gzip",
  kind: "archives",
  title: "GZIP archive",
  extensions: ["gz", "tgz"],
  // The three highest flags are reserved and zero.
  signatures: Array.from({ length: 32 }, (_, flags) => ({ at: 0, mark: `\x1f\x8b\x08${String.fromCharCode(flags)}` })),
  recognise: (head) => hasAscii(head, 0, "\x1f\x8b\x08") && ((head[3] ?? 0xff) & 0xe0) === 0,
  follow: followGzip,
  summarise(source): Summary {
    const header = gzipHeader(new BlockReader(source), 0);
    return { ...(header?.name ? { title: header.name } : {}), ...(header?.modified ? { dated: header.modified } : {}) };
  },
};

/** What a stream begins with: a block, or its end when it is empty. */
const BLOCKS = ["1AY&SY", "\x17rE8P\x90"];

const bzip2: Format = {
  id: "bzip2",
  kind: "archives",
  title: "BZIP2 archive",
  extensions: ["bz2", "tbz"],
  signatures: Array.from({ length: 9 }, (_, i) => ({ at: 0, mark: `BZh${i + 1}1AY&SY` })),
  recognise: (head) => /^BZh[1-9]$/.test(String.fromCharCode(...head.subarray(0, 4))) && BLOCKS.some((mark) => hasAscii(head, 4, mark)),
  follow: (source) =>
    unpacking(source, (reader) => {
      let { end } = unpackBzip2(reader, 0, MAX_UNPACKED);
      while (reader.has(end, "BZh") && reader.has(end + 4, "1AY&SY")) ({ end } = unpackBzip2(reader, end, MAX_UNPACKED));
      return endsAt(end);
    }),
};

/** A number of 7 bits a byte (.xz format 1.1.0, 1.2). */
function vli(reader: BlockReader, at: number): { value: number; next: number } {
  let value = 0;
  for (let i = 0; i < 9; i += 1) {
    const byte = reader.u8(at + i);
    value += (byte & 127) * 2 ** (7 * i);
    if (byte < 128) return { value, next: at + i + 1 };
  }
  throw new InflateError(at, 0, "a number in the archive is damaged");
}

/** Bytes of a block's check by its kind (2.1.1.2); of those larger than CRC-64 only the place is known. */
const CHECK_BYTES = [0, 4, 4, 4, 8, 8, 8, 16, 16, 16, 32, 32, 32, 64, 64, 64] as const;
const LZMA2 = 0x21;

/** XZ: the published .xz file format 1.1.0, sections 2 to 4. */
function followXz(source: ByteSource): Extent | null {
  return unpacking(source, (reader) => {
    let at = 0;
    let left = MAX_UNPACKED;
    let doubt = false;
    for (let streams = 0; ; streams += 1) {
      if (!reader.has(at, "\xfd7zXZ\0"))
        return streams === 0 ? null : endsAt(at, doubt ? cannotTell("a coding in the archive is not followed") : undefined);
      if (crc32(reader.bytes(at + 6, 2)) !== reader.u32(at + 8)) return breaksAt(at, "the archive's header is damaged");
      const check = reader.u8(at + 7) & 15;
      at += 12;
      while (reader.u8(at) !== 0) {
        const block = xzBlock(reader, at, check, left);
        left -= block.plain;
        doubt ||= !block.checked;
        at = block.end;
      }
      at = xzIndex(reader, at);
      if (crc32(reader.bytes(at + 4, 6)) !== reader.u32(at) || !reader.has(at + 10, "YZ"))
        return breaksAt(at, "the archive's end is damaged");
      at += 12;
    }
  });
}

function xzBlock(reader: BlockReader, at: number, check: number, most: number): { end: number; plain: number; checked: boolean } {
  const headerLength = (reader.u8(at) + 1) * 4;
  if (crc32(reader.bytes(at, headerLength - 4)) !== reader.u32(at + headerLength - 4))
    throw new InflateError(at, 0, "a block's header is damaged");
  const flags = reader.u8(at + 1);
  let next = at + 2;
  if (flags & 0x40) ({ next } = vli(reader, next));
  if (flags & 0x80) ({ next } = vli(reader, next));
  const filter = vli(reader, next);
  const properties = vli(reader, filter.next);
  // Filters before the packing (for programs, for numbers) are rare: such blocks are not followed.
  if ((flags & 3) !== 0 || filter.value !== LZMA2) throw new TooMuch();
  const dictionary = lzma2Dictionary(reader.u8(properties.next) & 63);
  let crc = 0;
  const crc64 = new Crc64();
  const done = unpackLzma2(
    reader,
    at + headerLength,
    reader.size,
    dictionary,
    (plain) => {
      if (check === 1) crc = crc32(plain, crc);
      else if (check === 4) crc64.add(plain);
    },
    most,
  );
  let end = done.end;
  while ((end - at) % 4 !== 0) end += 1;
  if (check === 1 && reader.u32(end) !== crc) throw new InflateError(end, done.plain, "the checksum of a block does not match");
  if (check === 4 && (reader.u32(end) !== crc64.value[0] || reader.u32(end + 4) !== crc64.value[1]))
    throw new InflateError(end, done.plain, "the checksum of a block does not match");
  return { end: end + (CHECK_BYTES[check] as number), plain: done.plain, checked: check === 1 || check === 4 };
}

/** Past the index of the blocks, whose checksum must be right. */
function xzIndex(reader: BlockReader, at: number): number {
  const records = vli(reader, at + 1);
  let next = records.next;
  for (let i = 0; i < records.value; i += 1) next = vli(reader, vli(reader, next).next).next;
  while ((next - at) % 4 !== 0) next += 1;
  let crc = 0;
  for (const { bytes } of reader.blocks(at, next)) crc = crc32(bytes, crc);
  if (reader.u32(next) !== crc) throw new InflateError(at, 0, "the archive's index is damaged");
  return next + 4;
}

const xz: Format = {
  id: "xz",
  kind: "archives",
  title: "XZ archive",
  extensions: ["xz", "txz"],
  signatures: [{ at: 0, mark: "\xfd7zXZ\0" }],
  recognise: (head) => hasAscii(head, 0, "\xfd7zXZ\0"),
  follow: followXz,
};

export const compressedFormats: readonly Format[] = [gzip, bzip2, xz];

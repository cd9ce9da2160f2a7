import { crc32 } from "node:zlib";
import { BlockReader } from "../bytes/block-reader";
import type { ByteSource } from "../bytes/byte-source";
import { unpackBzip2 } from "../bytes/bzip2";
import { InflateError, inflate, TooMuch } from "../bytes/inflate";
import { PastEnd } from "../bytes/past-end";
import { unpackXz, XZ_MARK } from "../bytes/xz";
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
        // Where other bytes were unpacked, they may have ended anywhere.
        return { size: done.end + 8, closed: false, verdict: damaged(done.end, "the archive's checksum does not match") };
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

/** XZ: the published .xz file format 1.1.0, sections 2 to 4. */
function followXz(source: ByteSource): Extent | null {
  return unpacking(source, (reader) => {
    let at = 0;
    let left = MAX_UNPACKED;
    let doubt = false;
    for (let streams = 0; ; streams += 1) {
      if (!reader.has(at, XZ_MARK))
        return streams === 0 ? null : endsAt(at, doubt ? cannotTell("a coding in the archive is not followed") : undefined);
      const stream = unpackXz(reader, at, left);
      left -= stream.plain;
      doubt ||= !stream.checked;
      at = stream.end;
    }
  });
}

const xz: Format = {
  id: "xz",
  kind: "archives",
  title: "XZ archive",
  extensions: ["xz", "txz"],
  signatures: [{ at: 0, mark: XZ_MARK }],
  recognise: (head) => hasAscii(head, 0, XZ_MARK),
  follow: followXz,
};

export const compressedFormats: readonly Format[] = [gzip, bzip2, xz];

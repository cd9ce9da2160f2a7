import { BlockReader } from "../bytes/block-reader";
import type { ByteSource } from "../bytes/byte-source";
import { unpackBzip2 } from "../bytes/bzip2";
import { InflateError, inflate, TooMuch } from "../bytes/inflate";
import { PastEnd } from "../bytes/past-end";
import { unpackXz, XZ_MARK } from "../bytes/xz";
import type { Chunk } from "./chunk-disk";
import { SECTOR } from "./udif-layout";

/** Plain bytes of a chunk at most. */
const MOST_PLAIN = 8 << 20;
/** Places at which a chunk is tried without success, and plain bytes unpacked, at most. */
const MOST_TRIED = 200_000;
const MOST_UNPACKED = 2 ** 31;

type Found = Omit<Chunk, "start">;

/** Finds compressed chunks in a file one after the other; only those that end well and give whole sectors are taken. */
export function scanForChunks(file: ByteSource): Found[] {
  const reader = new BlockReader(file);
  const found: Found[] = [];
  let [tried, unpacked] = [0, 0];
  for (let at = 0; at + 16 < file.size && tried < MOST_TRIED && unpacked < MOST_UNPACKED; ) {
    const chunk = mayBegin(reader, at) ? chunkAt(reader, at) : null;
    if (chunk) {
      found.push(chunk);
      unpacked += chunk.length;
      at += chunk.kept;
    } else {
      if (mayBegin(reader, at)) tried += 1;
      at += 1;
    }
  }
  return found;
}

const isZlib = (a: number, b: number) => (a & 0x0f) === 8 && a >>> 4 <= 7 && (a * 256 + b) % 31 === 0 && (b & 0x20) === 0;

function mayBegin(reader: BlockReader, at: number): boolean {
  const a = reader.u8(at);
  if (a === 0x42) return reader.has(at, "BZh");
  if (a === 0xfd) return reader.has(at, XZ_MARK);
  return isZlib(a, reader.u8(at + 1));
}

function chunkAt(reader: BlockReader, at: number): Found | null {
  let plain = 0;
  const take = (bytes: Uint8Array) => {
    plain += bytes.length;
  };
  try {
    if (reader.has(at, "BZh")) return whole(at, unpackBzip2(reader, at, MOST_PLAIN, take).end - at, plain, "bzip2");
    if (reader.has(at, XZ_MARK)) return whole(at, unpackXz(reader, at, MOST_PLAIN, take).end - at, plain, "xz");
    const { end } = inflate(reader, at + 2, reader.size, take, MOST_PLAIN);
    // zlib's checksum follows.
    return whole(at, end + 4 - at, plain, "zlib");
  } catch (error) {
    if (error instanceof InflateError || error instanceof TooMuch || error instanceof PastEnd) return null;
    throw error;
  }
}

const whole = (at: number, kept: number, length: number, kind: "zlib" | "bzip2" | "xz"): Found | null =>
  length > 0 && length % SECTOR === 0 ? { at, kept, length, kind } : null;

import { crc32 } from "node:zlib";
import type { BlockReader } from "../bytes/block-reader";
import type { ByteSource } from "../bytes/byte-source";
import { unpackBzip2 } from "../bytes/bzip2";
import type { Coding } from "../bytes/codecs";
import { InflateError, inflate, inflateWide, TooMuch } from "../bytes/inflate";
import { PastEnd } from "../bytes/past-end";
import { unpackZipLzma } from "../bytes/zip-lzma";
import { METHOD } from "../formats/zip/layout";

/** A coding that a member's method is read by; null: as it is. */
export const CODING_OF: Readonly<Record<number, Coding | null>> = {
  [METHOD.stored]: null,
  [METHOD.deflated]: "deflate",
  [METHOD.deflate64]: "deflate64",
  [METHOD.bzip2]: "bzip2",
  [METHOD.lzma]: "lzma",
};
export const isRead = (method: number): boolean => method in CODING_OF;

export interface Decoded {
  /** Plain bytes that were given, and their checksum. */
  readonly present: number;
  readonly crc: number;
  /** The byte after the last packed one; null: the data broke off or make no sense. */
  readonly end: number | null;
}

/** Plain bytes that are given for comparing a checksum at most, of one member. */
const MOST_PLAIN_CHECKED = 2 ** 36;

/** Bytes of packed data in which the first that cannot be read is looked for. */
const LOOKED_FOR_GAPS = 1 << 26;

/**
 * How many packed bytes stand at a place, up to the first that cannot be read: zeros in its place would be unpacked to bytes that never were.
 * @param length how many there should be
 */
export function packedThere(source: ByteSource, at: number, length: number): number {
  const rest = Math.max(0, Math.min(length, source.size - at));
  const [gap] = source.unreadable(at, Math.min(rest, LOOKED_FOR_GAPS));
  return gap ? Math.max(0, gap.start - at) : rest;
}

/** Unpacks a member's data. @param limit byte before which they end @param plain bytes there should be; -1: not known @param most plain bytes that are unpacked at most */
export function decodeMember(
  reader: BlockReader,
  method: number,
  dataAt: number,
  limit: number,
  plain: number,
  most = MOST_PLAIN_CHECKED,
): Decoded {
  let crc = 0;
  let present = 0;
  const take = (bytes: Uint8Array) => {
    crc = crc32(bytes, crc);
    present += bytes.length;
  };
  const last = Math.min(limit, reader.size);
  const stop = method === METHOD.stored ? last : dataAt + packedThere(reader.source, dataAt, last - dataAt);
  try {
    if (method === METHOD.stored) {
      for (const { bytes } of reader.blocks(dataAt, stop)) take(bytes);
      return { present, crc, end: stop < limit ? null : stop };
    }
    const done =
      method === METHOD.deflated
        ? inflate(reader, dataAt, stop, take, most)
        : method === METHOD.deflate64
          ? inflateWide(reader, dataAt, stop, take, most)
          : method === METHOD.bzip2
            ? unpackBzip2(reader, dataAt, most, take)
            : unpackZipLzma(reader, dataAt, stop, Math.max(0, plain), take);
    return { present, crc, end: done.end };
  } catch (error) {
    if (!(error instanceof InflateError || error instanceof TooMuch || error instanceof PastEnd)) throw error;
    return { present, crc, end: null };
  }
}

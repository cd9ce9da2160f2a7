import { inflateRawSync, inflateSync } from "node:zlib";
import { decodeAdc } from "./adc";
import { BlockReader } from "./block-reader";
import { type ByteSource, MemorySource } from "./byte-source";
import { bzip2Unpacker, unpackBzip2 } from "./bzip2";
import { InflateError, inflate, inflater, inflateWide, TooMuch } from "./inflate";
import { decodeLzfse } from "./lzfse";

import { decodeLznt1 } from "./lznt1";
import { decodeLzvn } from "./lzvn";
import { decodeLzx } from "./lzx";
import { PastEnd } from "./past-end";
import { StreamedBytes } from "./streamed-bytes";
import type { Unpacker } from "./unpacker";
import { decodeXpress } from "./xpress";
import { unpackXz } from "./xz";
import { unpackZipLzma, ZipLzmaUnpacker } from "./zip-lzma";

/** Plain bytes of a piece that can be decoded by itself, at most: reading from the middle of a content decodes no more than this. */
export const MOST_CODED = 1 << 20;
/** Of a whole file that is coded in one piece, as in an archive, and decoded into memory as a whole for reading any of it. */
export const MOST_AT_ONCE = 1 << 26;
/** Of one that can be decoded from its beginning on while it is read. */
const MOST_STREAMED = 2 ** 45;

interface Codec {
  /** Its number in stored layouts (`layout-code.ts`): 4 … 15, never given to another one. */
  readonly tag: number;
  /** Decodes a piece. @returns `length` bytes, zeros where the coded bytes are damaged; whether they are sound */
  decode(coded: Uint8Array, length: number): { bytes: Uint8Array; sound: boolean };
}

/** The ways in which the pieces of a content may be coded. */
export const CODECS = {
  lznt1: { tag: 4, decode: decodeLznt1 },
  xpress: { tag: 5, decode: decodeXpress },
  lzx: { tag: 6, decode: decodeLzx },
  /** RFC 1951, without a frame. */
  deflate: { tag: 7, decode: decodeDeflate },
  /** RFC 1950: deflate in its frame, with a checksum. */
  zlib: { tag: 13, decode: decodeZlib },
  lzfse: { tag: 9, decode: decodeLzfse },
  lzvn: { tag: 10, decode: decodeLzvn },
  adc: { tag: 11, decode: decodeAdc },
  xz: { tag: 12, decode: unpacked((reader, most, take) => unpackXz(reader, 0, most, take), true) },
  /** As in ZIP archives: the wider dialect, and LZMA with its properties before it. */
  deflate64: { tag: 14, decode: unpacked((reader, most, take) => inflateWide(reader, 0, reader.size, take, most)) },
  lzma: { tag: 15, decode: unpacked((reader, most, take) => unpackZipLzma(reader, 0, reader.size, most, take)) },
  bzip2: { tag: 8, decode: unpacked((reader, most, take) => unpackBzip2(reader, 0, most, take), true) },
} as const satisfies Record<string, Codec>;

export type Coding = keyof typeof CODECS;

/** Codings in which archives keep whole files: how such a one is decoded while it is read, however large it is. */
const STREAMED: Partial<Record<Coding, (reader: BlockReader, size: number, take: (plain: Uint8Array) => void) => Unpacker>> = {
  deflate: (reader, _, take) => inflater(reader, 0, reader.size, take),
  deflate64: (reader, _, take) => inflater(reader, 0, reader.size, take, true),
  bzip2: (reader, _, take) => bzip2Unpacker(reader, 0, take),
  lzma: (reader, size, take) => new ZipLzmaUnpacker(reader, 0, reader.size, size, take),
};

/** Plain bytes that a piece of a coding has at most. */
export const mostCoded = (coding: Coding): number => (STREAMED[coding] ? MOST_STREAMED : MOST_CODED);

/** A piece that is too large to be decoded at once, read at any place; null: its coding cannot be. @param coded its coded bytes @param size its plain ones */
export function streamOf(coding: Coding, coded: ByteSource, size: number): StreamedBytes | null {
  const make = STREAMED[coding];
  return make ? new StreamedBytes((take) => make(new BlockReader(coded), size, take)) : null;
}

const salvageDeflate = unpacked((reader, most, take) => inflate(reader, 0, reader.size, take, most));

/** The well-known library is quicker; it gives nothing of what is damaged. */
function decodeDeflate(coded: Uint8Array, length: number): { bytes: Uint8Array; sound: boolean } {
  try {
    const bytes = inflateRawSync(coded, { maxOutputLength: Math.max(1, length) });
    if (bytes.length === length) return { bytes, sound: true };
  } catch {
    // Damaged, or more than the piece should have.
  }
  return salvageDeflate(coded, length);
}

function decodeZlib(coded: Uint8Array, length: number): { bytes: Uint8Array; sound: boolean } {
  try {
    const bytes = inflateSync(coded, { maxOutputLength: Math.max(1, length) });
    if (bytes.length === length) return { bytes, sound: true };
  } catch {
    // Damaged, or more than the piece should have.
  }
  return { ...salvageDeflate(coded.subarray(2), length), sound: false };
}

/** A decoder that gives its bytes bit by bit, as one that gives a piece. @param checked a checksum stands behind the piece */
function unpacked(
  unpack: (reader: BlockReader, most: number, take: (plain: Uint8Array) => void) => unknown,
  checked = false,
): Codec["decode"] {
  return (coded, length) => {
    const bytes = new Uint8Array(length);
    let filled = 0;
    const take = (plain: Uint8Array) => {
      bytes.set(plain.subarray(0, length - filled), filled);
      filled = Math.min(length, filled + plain.length);
    };
    try {
      unpack(new BlockReader(new MemorySource(coded)), length, take);
      return { bytes, sound: filled === length };
    } catch (error) {
      if (!(error instanceof InflateError || error instanceof TooMuch || error instanceof PastEnd)) throw error;
      // Of a piece whose end is damaged only what stands before is wanted; where a checksum stands at its end, it did not agree.
      return { bytes, sound: !checked && filled === length && error instanceof InflateError };
    }
  };
}

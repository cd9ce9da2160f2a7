import { crc32 } from "node:zlib";
import { BlockReader } from "../bytes/block-reader";
import { type ByteSource, MemorySource } from "../bytes/byte-source";
import { unpackBzip2 } from "../bytes/bzip2";
import { InflateError, inflate, TooMuch } from "../bytes/inflate";
import { PastEnd } from "../bytes/past-end";
import { unpackXz, XZ_MARK } from "../bytes/xz";
import { MOST_PLAIN } from "./archive";

/** A compressed file unpacked, as far as it goes. */
export interface Unpacked {
  readonly content: ByteSource;
  /** What is to be known of it; empty: all of it was unpacked. */
  readonly notes: readonly string[];
  /** From this byte on a checksum does not agree, or was not reached behind damage: what stands there may be damaged. Null: none speaks against it. */
  readonly doubtFrom: number | null;
}

const WRONG_CHECKSUM = "A checksum of this archive does not agree: files in it are damaged, and it does not show which.";
/** Plain bytes of a BZIP2 block at most: its checksum is compared behind it. */
const BZIP2_BLOCK = 900_000;
const BREAKS = "This archive is damaged or cut off: what comes behind that place is gone.";
const TOO_LARGE = `This archive unpacks to more than ${MOST_PLAIN >> 20} MiB: what comes behind that is not read yet.`;

/** Unpacks a file compressed as a whole (gzip, RFC 1952; bzip2; xz); null: it is none of these. */
export function unpackWhole(source: ByteSource): Unpacked | null {
  const reader = new BlockReader(source);
  const kind = kindOf(reader);
  if (!kind) return null;
  let doubtFrom: number | null = null;
  const pieces: Uint8Array[] = [];
  const notes: string[] = [];
  let plain = 0;
  try {
    const unsound = kind.unpack(reader, (piece) => {
      const room = MOST_PLAIN - plain;
      if (room > 0) pieces.push(piece.slice(0, room));
      plain += piece.length;
      if (plain > MOST_PLAIN) throw new TooMuch();
    });
    if (unsound !== null) {
      doubtFrom = unsound;
      notes.push(WRONG_CHECKSUM);
    }
  } catch (error) {
    // What was given of a block before its checksum was compared is as doubtful as that.
    if (error instanceof InflateError) doubtFrom = Math.max(0, plain - kind.unchecked);
    if (error instanceof TooMuch) notes.push(TOO_LARGE);
    else if (error instanceof InflateError || error instanceof PastEnd) notes.push(BREAKS);
    else throw error;
  }
  const bytes = Buffer.concat(pieces);
  return { content: new MemorySource(bytes), notes, doubtFrom };
}

/** The first plain bytes of a file compressed as a whole, as many as wanted or there are; null: it is none. */
export function unpackHead(source: ByteSource, wanted: number): Uint8Array | null {
  const reader = new BlockReader(source);
  const kind = kindOf(reader);
  if (!kind) return null;
  const head = new Uint8Array(wanted);
  let filled = 0;
  try {
    kind.unpack(reader, (piece) => {
      head.set(piece.subarray(0, wanted - filled), filled);
      filled = Math.min(wanted, filled + piece.length);
      if (filled === wanted) throw new TooMuch();
    });
  } catch (error) {
    if (!(error instanceof InflateError || error instanceof TooMuch || error instanceof PastEnd)) throw error;
  }
  return head.subarray(0, filled);
}

type Take = (plain: Uint8Array) => void;

/** A way of compressing a whole file. */
interface WholeKind {
  /** Unpacks all of it. @returns from which plain byte on a checksum does not agree; null: all agree */
  unpack(reader: BlockReader, take: Take): number | null;
  /** Plain bytes that can have been given when damage is noticed, and that no checksum has covered yet. */
  readonly unchecked: number;
}

const BZIP2: WholeKind = {
  unchecked: BZIP2_BLOCK,
  unpack(reader, take) {
    unpackBzip2(reader, 0, Number.POSITIVE_INFINITY, take);
    return null;
  },
};
/** A block of XZ may be all of the file. */
const XZ: WholeKind = {
  unchecked: Number.POSITIVE_INFINITY,
  unpack(reader, take) {
    unpackXz(reader, 0, Number.POSITIVE_INFINITY, take);
    return null;
  },
};

function kindOf(reader: BlockReader): WholeKind | null {
  if (reader.size < 18) return null;
  if (reader.u16be(0) === 0x1f8b && reader.u8(2) === 8) return GZIP;
  if (reader.has(0, "BZh")) return BZIP2;
  return reader.has(0, XZ_MARK) ? XZ : null;
}

/** RFC 1952, 2.3.1: the fixed part of a member's header, its flags, and the checksum and length behind its data. */
const MEMBER = { size: 10, extra: 4, name: 8, comment: 16, headerCheck: 2, trailer: 8 } as const;

/** All members one after the other; the checksum of each stands behind its data. Damage inside of it shows before that. */
const GZIP: WholeKind = {
  unchecked: 1 << 15,
  unpack(reader, take) {
    let plain = 0;
    for (let at = 0; at + 18 <= reader.size && reader.u16be(at) === 0x1f8b; ) {
      const begin = plain;
      let crc = 0;
      const { end } = inflate(reader, dataBehind(reader, at), reader.size, (piece) => {
        crc = crc32(piece, crc);
        plain += piece.length;
        take(piece);
      });
      if (end + MEMBER.trailer > reader.size) throw new PastEnd(end, MEMBER.trailer, reader.size);
      if (reader.u32(end) !== crc || reader.u32(end + 4) !== (plain - begin) % 2 ** 32) return begin;
      at = end + MEMBER.trailer;
    }
    return null;
  },
};

/** Where the data of a GZIP member begin. */
function dataBehind(reader: BlockReader, at: number): number {
  const flags = reader.u8(at + 3);
  let next = at + MEMBER.size;
  if (flags & MEMBER.extra) next += 2 + reader.u16(next);
  const skipText = () => {
    while (reader.u8(next) !== 0) next += 1;
    next += 1;
  };
  if (flags & MEMBER.name) skipText();
  if (flags & MEMBER.comment) skipText();
  return flags & MEMBER.headerCheck ? next + 2 : next;
}

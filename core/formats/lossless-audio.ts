import { BlockReader } from "../bytes/block-reader";
import type { ByteSource } from "../bytes/byte-source";
import { forwardTable } from "../bytes/crc-forward";
import { following } from "./following";
import { breaksAt, cannotTell, damaged, type Extent, endsAt, type Format, hasAscii, type Summary } from "./format";
import { defined } from "./tiff-directory";

/** RFC 9639, 9.1.8 and 9.3: the checks of a frame's header and of all of it. */
const CRC8 = forwardTable(8, 0x07);
const CRC16 = forwardTable(16, 0x8005);
const MOST_FRAME = 1 << 20;
const USUAL_FRAME = 1 << 15;

/** The length of the frame header at `at` when a right one stands there, else 0 (RFC 9639, 9.1). */
function headerLength(reader: BlockReader, at: number): number {
  if (at + 6 > reader.size || reader.u8(at) !== 0xff || (reader.u8(at + 1) & 0xfe) !== 0xf8) return 0;
  const [sizes, channels] = [reader.u8(at + 2), reader.u8(at + 3)];
  if (sizes >> 4 === 0 || (sizes & 15) === 15 || channels >> 4 > 10 || channels & 1) return 0;
  const coded = Math.clz32(~(reader.u8(at + 4) << 24));
  let length = 4 + Math.max(1, coded);
  if (sizes >> 4 === 6) length += 1;
  if (sizes >> 4 === 7) length += 2;
  if ((sizes & 15) === 12) length += 1;
  if ((sizes & 15) === 13 || (sizes & 15) === 14) length += 2;
  if (at + length + 1 > reader.size) return 0;
  let crc = 0;
  for (let i = 0; i < length; i += 1) crc = CRC8[crc ^ reader.u8(at + i)] as number;
  return crc === reader.u8(at + length) ? length + 1 : 0;
}

/** Filled with zeros, of no meaning (8.3). */
const PADDING = 1;

/**
 * Finds where the frame at `at` ends: the first place before which its check comes out right and another frame follows; of the last one,
 * before which its check comes out right.
 * @param most bytes of a frame @param behind places up to this one are passed by
 * @returns -1 when there is no such place
 */
function frameEnd(reader: BlockReader, at: number, most: number, last: boolean, behind = 0): number {
  const header = headerLength(reader, at);
  if (header === 0) return -1;
  let crc = 0;
  const limit = Math.min(reader.size, at + most);
  for (let i = at; i < limit; i += 1) {
    crc = ((crc << 8) & 0xffff) ^ (CRC16[(crc >> 8) ^ reader.u8(i)] as number);
    // With its check the frame comes to zero.
    if (crc !== 0 || i + 1 < at + header + 3 || i < behind) continue;
    if (last || headerLength(reader, i + 1) > 0) return i + 1;
  }
  return -1;
}

function zerosEnd(reader: BlockReader, from: number): number {
  let at = from;
  while (at < reader.size && at - from < MOST_FRAME && reader.u8(at) === 0) at += 1;
  return at + 1;
}

/** FLAC: RFC 9639, section 8 (metadata blocks) and 9 (frames, each with a check). */
function followFlac(source: ByteSource): Extent | null {
  return following(source, "the sound breaks off before its end", (reader) => {
    let at = 4;
    /** Tags, pictures and the like, which nothing checks. */
    let unfollowed = 0;
    for (let last = false; !last; ) {
      const kind = reader.u8(at);
      last = (kind & 128) !== 0;
      if ((kind & 127) === 127 || (at === 4 && kind !== 0 && kind !== 128)) return null;
      if (at > 4 && (kind & 127) !== PADDING) unfollowed += reader.u24be(at + 1);
      at += 4 + reader.u24be(at + 1);
      if (at > source.size) return breaksAt(source.size, "the sound breaks off before its end");
    }
    const samples = totalSamples(reader);
    const blockSize = reader.u16be(10);
    const expected = samples > 0 && blockSize > 0 && reader.u16be(8) === blockSize ? Math.ceil(samples / blockSize) : 0;
    // The largest frame (8.2), where the beginning knows it.
    const most = reader.u24be(15) || MOST_FRAME;
    let frames = 0;
    let certain = true;
    for (; expected === 0 || frames < expected; frames += 1) {
      const last = expected > 0 && frames + 1 === expected;
      const end = frameEnd(reader, at, most, last);
      if (end < 0) break;
      // Its check is of two bytes: by chance it comes out right in one place of 65,536, and it stays right over zeros.
      certain = !last || frameEnd(reader, at, most, true, zerosEnd(reader, end)) < 0;
      at = end;
    }
    if (frames < expected) {
      if (at >= source.size) return { ...breaksAt(at, "the sound breaks off before its end"), proven: at };
      // It may be wrong anywhere in the frame.
      const upTo = Math.min(source.size, at + Math.min(most, USUAL_FRAME));
      return { size: at, closed: false, verdict: damaged(at, "a frame of the sound is damaged", upTo), proven: at };
    }
    if (frames > 0 && expected === 0) return { size: at, closed: false, verdict: cannotTell("the sound does not tell where it ends") };
    if (frames === 0) return breaksAt(at, "no sound follows the beginning");
    // Where the last frame may end elsewhere as well, nothing vouches for the whole.
    const open = certain ? unfollowed : at;
    return { ...endsAt(at), ...(open > 0 ? { unfollowed: open } : {}) };
  });
}

const totalSamples = (reader: BlockReader) => (reader.u8(21) & 15) * 0x1_0000_0000 + reader.u32be(22);

function flacFacts(source: ByteSource): Summary {
  const reader = new BlockReader(source);
  const rate = reader.u24be(18) >> 4;
  const facts: { title?: string; author?: string; duration?: number } = {};
  if (rate > 0) facts.duration = Math.round((totalSamples(reader) * 1000) / rate);
  for (let at = 4, last = false; !last && at + 4 < source.size; ) {
    last = (reader.u8(at) & 128) !== 0;
    if ((reader.u8(at) & 127) === 4) {
      const length = Math.min(8192, reader.u24be(at + 1), source.size - at - 4);
      const text = new TextDecoder().decode(reader.bytes(at + 4, length));
      for (const [field, name] of [
        ["title", "TITLE"],
        ["author", "ARTIST"],
      ] as const) {
        const found = new RegExp(`${name}=([^\\0-\\x1f]{1,200})`, "i").exec(text)?.[1];
        // The next comment's length may stand right behind.
        if (found) facts[field] = found.replace(/.\0.*$/s, "").trim();
      }
    }
    at += 4 + reader.u24be(at + 1);
  }
  return defined<Summary>(facts);
}

export const flac: Format = {
  id: "flac",
  kind: "audio",
  title: "FLAC sound",
  extensions: ["flac"],
  signatures: [{ at: 0, mark: "fLaC" }],
  recognise: (head) => hasAscii(head, 0, "fLaC"),
  follow: followFlac,
  summarise: flacFacts,
};

/** AIFF: the published Audio Interchange File Format 1.3 (chunks padded to even, in one of the kind "FORM"). */
export const aiff: Format = {
  id: "aiff",
  kind: "audio",
  title: "AIFF sound",
  extensions: ["aif", "aiff", "aifc"],
  signatures: [{ at: 0, mark: "FORM" }],
  loose: true,
  recognise: (head) => hasAscii(head, 0, "FORM") && (hasAscii(head, 8, "AIFF") || hasAscii(head, 8, "AIFC")),
  follow(source) {
    const reader = new BlockReader(source);
    const end = 8 + reader.u32be(4);
    for (let at = 12; at + 8 <= Math.min(end, source.size); ) {
      if (!/^[\x20-\x7e]{4}$/.test(reader.ascii(at, 4))) return breaksAt(at, "no chunk begins where the next one should");
      const length = reader.u32be(at + 4);
      if (at + 8 + length > end) return breaksAt(at, "a chunk runs past the end of the file");
      at += 8 + length + (length % 2);
    }
    return end > source.size ? breaksAt(source.size, "the sound breaks off before its end") : endsAt(end);
  },
};

/**
 * The first right header of a frame in `reader`: its number (or that of its first sample), and by how much that of the next frame is
 * higher at most; null: there is none.
 */
export function firstFrame(reader: BlockReader): { at: number; number: number; samples: number } | null {
  for (let at = reader.find("\xff", 0); at >= 0; at = reader.find("\xff", at + 1)) {
    if (headerLength(reader, at) === 0) continue;
    // Coded like UTF-8 (9.1.5), of up to 36 bits.
    const first = reader.u8(at + 4);
    const more = Math.max(0, Math.clz32(~(first << 24)) - 1);
    let number = more === 0 ? first : first & (0x3f >> more);
    for (let i = 1; i <= more; i += 1) number = number * 64 + (reader.u8(at + 4 + i) & 63);
    // Frames of different lengths are numbered by samples (9.1.1).
    return { at, number, samples: reader.u8(at + 1) & 1 ? 65_536 : 1 };
  }
  return null;
}

import { BlockReader } from "../bytes/block-reader";
import type { ByteSource } from "../bytes/byte-source";
import { forwardTable } from "../bytes/crc-forward";
import { following } from "./following";
import { breaksAt, cannotTell, type Extent, endsAt, type Format, hasAscii, type Summary } from "./format";
import { defined } from "./tiff-directory";

/** RFC 9639, 9.1.8 and 9.3: the checks of a frame's header and of all of it. */
const CRC8 = forwardTable(8, 0x07);
const CRC16 = forwardTable(16, 0x8005);
const MOST_FRAME = 1 << 20;

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

/** Where the frame at `at` ends: the first place before which its check comes out right, and a frame or no more follows. */
function frameEnd(reader: BlockReader, at: number): number {
  const header = headerLength(reader, at);
  if (header === 0) return -1;
  let crc = 0;
  const limit = Math.min(reader.size, at + MOST_FRAME);
  let end = -1;
  for (let i = at; i < limit; i += 1) {
    crc = ((crc << 8) & 0xffff) ^ (CRC16[(crc >> 8) ^ reader.u8(i)] as number);
    // With its check the frame comes to zero.
    if (crc !== 0 || i + 1 < at + header + 3) continue;
    if (headerLength(reader, i + 1) > 0) return i + 1;
    if (end < 0) end = i + 1;
  }
  return end;
}

/** FLAC: RFC 9639, section 8 (metadata blocks) and 9 (frames, each with a check). */
function followFlac(source: ByteSource): Extent | null {
  return following(source, "the sound breaks off before its end", (reader) => {
    let at = 4;
    for (let last = false; !last; ) {
      const kind = reader.u8(at);
      last = (kind & 128) !== 0;
      if ((kind & 127) === 127 || (at === 4 && kind !== 0 && kind !== 128)) return null;
      at += 4 + reader.u24be(at + 1);
      if (at > source.size) return breaksAt(source.size, "the sound breaks off before its end");
    }
    const samples = totalSamples(reader);
    const blockSize = reader.u16be(10);
    const expected = samples > 0 && blockSize > 0 && reader.u16be(8) === blockSize ? Math.ceil(samples / blockSize) : 0;
    let frames = 0;
    for (; expected === 0 || frames < expected; frames += 1) {
      const end = frameEnd(reader, at);
      if (end < 0) break;
      at = end;
    }
    if (frames < expected)
      return breaksAt(at, at >= source.size ? "the sound breaks off before its end" : "a frame of the sound is damaged");
    if (frames > 0 && expected === 0) return { size: at, closed: false, verdict: cannotTell("the sound does not tell where it ends") };
    return frames > 0 ? endsAt(at) : breaksAt(at, "no sound follows the beginning");
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

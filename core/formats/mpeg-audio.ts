import { BlockReader } from "../bytes/block-reader";
import type { ByteSource } from "../bytes/byte-source";
import { PastEnd } from "../bytes/past-end";
import { breaksAt, cannotTell, type Extent, endsAt, type Format, hasAscii, type Summary } from "./format";
import { defined } from "./tiff-directory";

/** Bits a second of each layer, in thousands: ISO/IEC 11172-3, 2.4.2.3; the lower rates ISO/IEC 13818-3, 2.4.2.3. */
const RATES: Readonly<Record<string, readonly number[]>> = {
  "1-1": [32, 64, 96, 128, 160, 192, 224, 256, 288, 320, 352, 384, 416, 448],
  "1-2": [32, 48, 56, 64, 80, 96, 112, 128, 160, 192, 224, 256, 320, 384],
  "1-3": [32, 40, 48, 56, 64, 80, 96, 112, 128, 160, 192, 224, 256, 320],
  "2-1": [32, 48, 56, 64, 80, 96, 112, 128, 144, 160, 176, 192, 224, 256],
  "2-2": [8, 16, 24, 32, 40, 48, 56, 64, 80, 96, 112, 128, 144, 160],
  "2-3": [8, 16, 24, 32, 40, 48, 56, 64, 80, 96, 112, 128, 144, 160],
};
const SAMPLE_RATES = [44_100, 48_000, 32_000] as const;

interface Frame {
  readonly length: number;
  readonly samples: number;
  readonly rate: number;
  /** What stays the same from frame to frame: version, layer, rate of samples. */
  readonly family: number;
}

function frameAt(reader: BlockReader, at: number): Frame | null {
  const word = reader.u32be(at);
  if (word >>> 21 !== 0x7ff) return null;
  const version = (word >>> 19) & 3;
  const layer = 4 - ((word >>> 17) & 3);
  const rate = (word >>> 12) & 15;
  const sampleRate = (word >>> 10) & 3;
  if (version === 1 || layer === 4 || rate === 0 || rate === 15 || sampleRate === 3 || (word & 3) === 2) return null;
  const kbits = RATES[`${version === 3 ? 1 : 2}-${layer}`]?.[rate - 1] as number;
  const hertz = (SAMPLE_RATES[sampleRate] as number) / (version === 3 ? 1 : version === 2 ? 2 : 4);
  const padding = (word >>> 9) & 1;
  const samples = layer === 1 ? 384 : layer === 3 && version !== 3 ? 576 : 1152;
  const length = layer === 1 ? 4 * (Math.floor((12_000 * kbits) / hertz) + padding) : Math.floor((samples * 125 * kbits) / hertz) + padding;
  return { length, samples, rate: hertz, family: (word >>> 17) * 4 + sampleRate };
}

/** A length of 7 bits a byte (ID3v2, section 3.1). */
const syncSafe = (reader: BlockReader, at: number) => [0, 1, 2, 3].reduce((sum, i) => sum * 128 + (reader.u8(at + i) & 127), 0);
const BARE_FRAMES = 8;
const LEAST_SOUND = 1024;

function soundFrom(reader: BlockReader): number {
  let at = 0;
  while (reader.has(at, "ID3") && at + 10 < reader.size) at += 10 + syncSafe(reader, at + 6) + (reader.u8(at + 5) & 0x10 ? 10 : 0);
  return at;
}

/** MPEG audio: ISO/IEC 11172-3, 2.4.1: frame after frame, with tags (ID3v2 before, ID3v1 or the item tag after). */
function follow(source: ByteSource): Extent | null {
  const reader = new BlockReader(source);
  const tagged = reader.has(0, "ID3");
  let at = 0;
  let frames = 0;
  try {
    at = soundFrom(reader);
    // Tags may be filled up with zeros.
    if (tagged) for (let zeros = 0; zeros < 4096 && at < source.size && reader.u8(at) === 0; zeros += 1) at += 1;
    const first = at;
    const stated = statedFrames(reader, first);
    const family = frameAt(reader, at)?.family;
    // The tag says how long it is; the sound comes behind it.
    if (family === undefined) return tagged ? breaksAt(at, "no sound follows the tag", at + LEAST_SOUND) : null;
    for (;;) {
      const frame = at + 4 <= source.size ? frameAt(reader, at) : null;
      if (!frame || frame.family !== family) break;
      if (at + frame.length > source.size)
        return frames < BARE_FRAMES
          ? null
          : breaksAt(source.size, "the sound breaks off within a frame", expected(frames, stated, at - first));
      at += frame.length;
      frames += 1;
    }
    if (!tagged && frames < BARE_FRAMES) return null;
    if (stated > 0 && frames < stated)
      return breaksAt(at, "frames at the end of the sound are missing", expected(frames, stated, at - first));
    const sound = at;
    if (reader.has(at, "APETAGEX") && at + 16 <= source.size) at += 32 + reader.u32(at + 12);
    if (reader.has(at, "TAG") && at + 128 <= source.size) at += 128;
    // What comes next is no frame. That the sound ends here, only a number of frames or a tag behind it says.
    // Frames are counted, what is coded in them is not followed; nor is a picture in the tag.
    if (stated > 0 || at > sound) return { ...endsAt(Math.min(at, source.size)), unfollowed: Math.min(at, source.size) };
    return { size: at, closed: false, verdict: cannotTell("the sound does not tell where it ends") };
  } catch (error) {
    if (!(error instanceof PastEnd)) throw error;
    return frames < BARE_FRAMES ? null : breaksAt(source.size, "the sound breaks off");
  }
}

/** Bytes the sound has when its further frames are as long as those there were; undefined: nothing says how many there are. */
const expected = (frames: number, stated: number, bytes: number) =>
  stated > frames && frames > 0 ? Math.round((bytes / frames) * stated) : undefined;

/** How many frames there are, as the first one may say (common practice of encoders, no published source); 0: it does not. */
function statedFrames(reader: BlockReader, first: number): number {
  for (let at = first + 4; at < Math.min(first + 64, reader.size - 12); at += 1)
    if ((reader.has(at, "Xing") || reader.has(at, "Info")) && reader.u32be(at + 4) & 1) return reader.u32be(at + 8);
  return 0;
}

const TEXTS: Readonly<Record<string, "title" | "author">> = { TIT2: "title", TPE1: "author", TT2: "title", TP1: "author" };
const ENCODINGS = ["latin1", "utf-16", "utf-16be", "utf-8"] as const;

function summarise(source: ByteSource): Summary {
  const reader = new BlockReader(source);
  const facts: { title?: string; author?: string; duration?: number } = {};
  if (reader.has(0, "ID3")) {
    const version = reader.u8(3);
    const end = Math.min(source.size, 10 + syncSafe(reader, 6));
    const [nameBytes, head] = version === 2 ? [3, 6] : [4, 10];
    for (let at = 10; at + head < end; ) {
      const name = reader.ascii(at, nameBytes);
      if (!/^[A-Z0-9]+$/.test(name)) break;
      const length = version === 2 ? reader.u24be(at + 3) : version === 4 ? syncSafe(reader, at + 4) : reader.u32be(at + 4);
      const field = TEXTS[name];
      if (field && length > 1 && length < 1024 && at + head + length <= end) {
        const encoding = ENCODINGS[reader.u8(at + head)] ?? "latin1";
        facts[field] = new TextDecoder(encoding).decode(reader.bytes(at + head + 1, length - 1)).replace(/\0.*$/s, "");
      }
      at += head + length;
    }
  }
  let at = soundFrom(reader);
  let ms = 0;
  for (
    let frame = at + 4 <= source.size ? frameAt(reader, at) : null;
    frame && at + 4 <= source.size;
    frame = at + 4 <= source.size ? frameAt(reader, at) : null
  ) {
    ms += (frame.samples * 1000) / frame.rate;
    at += frame.length;
  }
  if (ms > 0) facts.duration = Math.round(ms);
  return defined<Summary>(facts);
}

export const mp3: Format = {
  id: "mp3",
  kind: "audio",
  title: "MP3 sound",
  extensions: ["mp3"],
  signatures: [
    ...["\x02", "\x03", "\x04"].map((version) => ({ at: 0, mark: `ID3${version}` })),
    ...["\xff\xfb", "\xff\xfa", "\xff\xf3", "\xff\xf2"].map((mark) => ({ at: 0, mark })),
  ],
  recognise: (head) => hasAscii(head, 0, "ID3") || (head[0] === 0xff && [0xfb, 0xfa, 0xf3, 0xf2].includes(head[1] ?? 0)),
  follow,
  summarise,
};

import { BlockReader } from "../bytes/block-reader";
import type { ByteSource } from "../bytes/byte-source";
import { CRC32_FORWARD } from "../bytes/crc-forward";
import { PastEnd } from "../bytes/past-end";
import { following } from "./following";
import { breaksAt, cannotTell, damaged, type Extent, endsAt, type Format, hasAscii, latin1, type Summary } from "./format";

/** Ogg: RFC 3533, section 6: page after page, each with a check, until each stream has had its last one. */
function followOgg(source: ByteSource): Extent | null {
  return following(source, "the recording breaks off before its end", (reader) => {
    const open = new Set<number>();
    let at = 0;
    let pages = 0;
    /** Where the headers end: the first page whose position in the recording is not 0 (section 6, granule position). */
    let headers: number | null = null;
    for (;;) {
      if (at >= source.size) return breaksAt(source.size, "the recording breaks off before its end");
      if (!reader.has(at, "OggS\0"))
        return pages === 0 ? null : { ...breaksAt(at, "no page begins where the next one should"), proven: at };
      const flags = reader.u8(at + 5);
      const serial = reader.u32(at + 14);
      const segments = reader.u8(at + 26);
      let length = 27 + segments;
      for (let i = 0; i < segments; i += 1) length += reader.u8(at + 27 + i);
      const expected = reader.u32(at + 22);
      let crc = 0;
      const page = reader.bytes(at, length);
      for (let i = 0; i < length; i += 1) {
        const byte = i >= 22 && i < 26 ? 0 : (page[i] as number);
        crc = ((crc << 8) ^ (CRC32_FORWARD[(crc >>> 24) ^ byte] as number)) >>> 0;
      }
      if (crc !== expected)
        return { size: at + length, closed: false, verdict: damaged(at, "the checksum of a page does not match", at + length), proven: at };
      if (headers === null && reader.u64(at + 6) > 0) headers = at;
      if (flags & 2) open.add(serial);
      if (flags & 4) open.delete(serial);
      at += length;
      pages += 1;
      // Streams may be chained (section 4): another one begins right here.
      if (open.size === 0 && !(reader.has(at, "OggS\0") && at + 27 <= source.size && reader.u8(at + 5) & 2))
        return { ...endsAt(at), common: headers ?? at };
    }
  });
}

const ogg = (id: string, title: string, kind: "audio" | "video", extensions: string[], codecs: string[]): Format => ({
  id,
  kind,
  title,
  extensions,
  signatures: [{ at: 0, mark: "OggS\0\x02" }],
  recognise: (head) => hasAscii(head, 0, "OggS\0") && codecs.some((codec) => latin1(head, 512).includes(codec)),
  follow: followOgg,
  summarise: (source) => oggFacts(source),
});

function oggFacts(source: ByteSource): Summary {
  const head = String.fromCharCode(...new BlockReader(source).bytes(0, Math.min(source.size, 8192)));
  const facts: { title?: string; author?: string } = {};
  const title = /TITLE=([^\p{Cc}]{1,200})/iu.exec(head)?.[1];
  const author = /ARTIST=([^\p{Cc}]{1,200})/iu.exec(head)?.[1];
  if (title) facts.title = title;
  if (author) facts.author = author;
  return facts;
}

/** Names of the objects of an ASF file (Advanced Systems Format specification, 3, 5 and 6), as they stand on the disk. */
const ASF = {
  header: "\x30\x26\xb2\x75\x8e\x66\xcf\x11",
  data: "\x36\x26\xb2\x75\x8e\x66\xcf\x11",
  index: "\x90\x08\x00\x33\xb1\xe5\xcf\x11",
  index2: "\xd3\x29\xe2\xd6\xda\x35\xd1\x11",
  mediaIndex: "\xf8\x03\xb1\xfe\xad\x12\x64\x4c",
  timecodeIndex: "\x4f\xb3\x75\x3c\xc3\x0e\x01\x4c",
  fileProperties: "\xa1\xdc\xab\x8c\x47\xa9\xcf\x11",
} as const;
const AFTER_DATA = [ASF.index, ASF.index2, ASF.mediaIndex, ASF.timecodeIndex];

function followAsf(source: ByteSource): Extent | null {
  return following(source, "the recording breaks off before its end", (reader) => {
    let at = reader.u64(16);
    if (at < 30 || at > 1 << 26) return null;
    const packet = packetSize(reader, at);
    if (!reader.has(at, ASF.data)) return breaksAt(at, "the recording does not follow its header");
    const dataEnd = at + reader.u64(at + 16);
    const packets = reader.u64(at + 40);
    if (packet > 0)
      for (let i = 0, place = at + 50; i < packets && place + packet <= dataEnd; i += 1, place += packet) {
        if (place + packet > source.size) return breaksAt(source.size, "the recording breaks off before its end");
        // A packet begins with its error correction, or with flags whose highest bit is not set (5.2.2).
        const first = reader.u8(place);
        if (first & 0x80 && first !== 0x82) return breaksAt(place, "a packet of the recording is not what it should be");
      }
    at = dataEnd;
    while (at + 24 <= source.size && AFTER_DATA.some((mark) => reader.has(at, mark))) at += Math.max(24, reader.u64(at + 16));
    return at > source.size ? breaksAt(source.size, "the recording breaks off before its end") : endsAt(at);
  });
}

function packetSize(reader: BlockReader, headerEnd: number): number {
  const at = reader.find(ASF.fileProperties, 30, headerEnd);
  if (at < 0) return 0;
  const [least, most] = [reader.u32(at + 92), reader.u32(at + 96)];
  return least === most ? least : 0;
}

function asfFacts(source: ByteSource): Summary {
  const reader = new BlockReader(source);
  const at = reader.find(ASF.fileProperties, 30, Math.min(source.size, 1 << 16));
  if (at < 0) return {};
  // Hundreds of nanoseconds, the time before playing begins counted in (3.2).
  return { duration: Math.max(0, Math.round(reader.u64(at + 64) / 10_000 - reader.u64(at + 80))) };
}

export const asf: Format = {
  id: "asf",
  kind: "video",
  title: "ASF media",
  extensions: ["wmv", "wma", "asf"],
  signatures: [{ at: 0, mark: ASF.header }],
  loose: true,
  recognise: (head) => hasAscii(head, 0, ASF.header),
  follow: followAsf,
  summarise: asfFacts,
};

const PACKET = 188;
const LEAST_PACKETS = 16;

/** MPEG transport stream: ISO/IEC 13818-1, 2.4.3: packets of 188 bytes, each beginning with 0x47; with a time before it 192. */
const transport: Format = {
  id: "mpeg-ts",
  kind: "video",
  title: "MPEG transport stream",
  extensions: ["ts", "m2t", "mts", "m2ts"],
  signatures: [
    { at: 0, mark: "\x47\x40" },
    { at: 4, mark: "\x47\x40" },
  ],
  recognise: (head) => packetStart(head) >= 0,
  follow(source) {
    const reader = new BlockReader(source);
    const start = packetStart(reader.bytes(0, Math.min(source.size, 4096)));
    if (start < 0) return null;
    const step = start === 0 ? PACKET : PACKET + 4;
    let at = 0;
    while (at + step <= source.size && reader.u8(at + start) === 0x47) at += step;
    if (at < LEAST_PACKETS * step) return null;
    return { size: at, closed: false, verdict: cannotTell("the stream does not tell where it ends") };
  },
};

function packetStart(head: Uint8Array): number {
  for (const [start, step] of [
    [0, PACKET],
    [4, PACKET + 4],
  ] as const) {
    let packets = 0;
    while (packets < LEAST_PACKETS && head[start + packets * step] === 0x47) packets += 1;
    if (packets === LEAST_PACKETS) return start;
  }
  return -1;
}

/** MPEG program stream: ISO/IEC 13818-1, 2.5: packs and packets, each with a length; the end code closes it. */
const program: Format = {
  id: "mpeg-ps",
  kind: "video",
  title: "MPEG video",
  extensions: ["mpg", "mpeg", "vob"],
  signatures: [{ at: 0, mark: "\0\0\x01\xba" }],
  recognise: (head) => hasAscii(head, 0, "\0\0\x01\xba"),
  follow(source) {
    const reader = new BlockReader(source);
    let at = 0;
    let packets = 0;
    try {
      for (;;) {
        if (!reader.has(at, "\0\0\x01")) {
          if (at >= source.size) return breaksAt(source.size, "the film ends without its end mark");
          return packets < 2
            ? null
            : { size: at, closed: false, verdict: { verdict: "cannot-tell", reason: "the film ends without its end mark" } };
        }
        const code = reader.u8(at + 3);
        if (code === 0xb9) return packets < 2 ? null : endsAt(at + 4);
        packets += 1;
        if (code === 0xba) at += reader.u8(at + 4) >> 6 === 1 ? 14 + (reader.u8(at + 13) & 7) : 12;
        else if (code >= 0xbb) at += 6 + reader.u16be(at + 4);
        else return packets < 3 ? null : breaksAt(at, "no packet begins where the next one should");
      }
    } catch (error) {
      if (!(error instanceof PastEnd)) throw error;
      return packets < 3 ? null : breaksAt(source.size, "the film breaks off before its end");
    }
  },
};

export const streamFormats: readonly Format[] = [
  ogg("ogv", "Ogg video", "video", ["ogv"], ["theora"]),
  ogg("opus", "Opus sound", "audio", ["opus"], ["OpusHead"]),
  ogg("ogg", "Ogg sound", "audio", ["ogg", "oga"], ["vorbis", "Speex", "FLAC"]),
  asf,
  transport,
  program,
];

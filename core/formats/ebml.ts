import { BlockReader } from "../bytes/block-reader";
import type { ByteSource } from "../bytes/byte-source";
import { following } from "./following";
import { breaksAt, type Extent, endsAt, type Format, hasAscii, type Summary } from "./format";
import { defined } from "./tiff-directory";

/** Element names of Matroska (RFC 9559, section 5; EBML: RFC 8794, sections 5 to 6). */
const ELEMENT = {
  ebml: 0x1a45dfa3,
  docType: 0x4282,
  segment: 0x18538067,
  cluster: 0x1f43b675,
  info: 0x1549a966,
  tracks: 0x1654ae6b,
  timestampScale: 0x2ad7b1,
  duration: 0x4489,
  title: 0x7ba9,
  dateUtc: 0x4461,
  track: 0xae,
  video: 0xe0,
  pixelWidth: 0xb0,
  pixelHeight: 0xba,
  simpleBlock: 0xa3,
  blockGroup: 0xa0,
  void: 0xec,
  crc: 0xbf,
} as const;
/** What may stand in a segment, and what in a cluster. */
const IN_SEGMENT: ReadonlySet<number> = new Set([
  0x114d9b74, 0x1549a966, 0x1654ae6b, 0x1f43b675, 0x1c53bb6b, 0x1941a469, 0x1043a770, 0x1254c367, 0xec, 0xbf,
]);
const IN_CLUSTER: ReadonlySet<number> = new Set([0xe7, 0xa3, 0xa0, 0xa7, 0xab, 0x5854, 0xaf, 0xec, 0xbf]);
const MOST_ELEMENTS = 20_000_000;
const BREAKS_OFF = "the recording breaks off before its end";

interface Element {
  readonly id: number;
  readonly at: number;
  readonly content: number;
  /** null: its length is not given. */
  readonly end: number | null;
}

/** The element at `at` (RFC 8794, 4: lengths of variable size); null where none can stand. */
function elementAt(reader: BlockReader, at: number): Element | null {
  const first = reader.u8(at);
  const idBytes = Math.clz32(first) - 23;
  if (idBytes > 4) return null;
  let id = 0;
  for (let i = 0; i < idBytes; i += 1) id = id * 256 + reader.u8(at + i);
  const lengthAt = at + idBytes;
  const head = reader.u8(lengthAt);
  const lengthBytes = Math.clz32(head) - 23;
  if (lengthBytes > 8) return null;
  let length = head & ((1 << (8 - lengthBytes)) - 1);
  let unknown = length === (1 << (8 - lengthBytes)) - 1;
  for (let i = 1; i < lengthBytes; i += 1) {
    const byte = reader.u8(lengthAt + i);
    unknown &&= byte === 0xff;
    length = length * 256 + byte;
  }
  const content = lengthAt + lengthBytes;
  return { id, at, content, end: unknown ? null : content + length };
}

function follow(source: ByteSource): Extent | null {
  return following(source, BREAKS_OFF, (reader) => {
    const header = elementAt(reader, 0);
    if (!header || header.end === null || header.end > 4096) return null;
    const segment = elementAt(reader, header.end);
    if (!segment || segment.id !== ELEMENT.segment) return breaksAt(header.end, "the recording does not go on after its beginning");
    let at = segment.content;
    const limit = segment.end ?? source.size;
    for (let seen = 0; at < limit && seen < MOST_ELEMENTS; seen += 1) {
      if (at >= source.size) return breaksAt(source.size, BREAKS_OFF);
      const element = elementAt(reader, at);
      if (!element || !IN_SEGMENT.has(element.id)) {
        if (segment.end === null && seen > 0)
          return { size: at, closed: false, verdict: { verdict: "cannot-tell", reason: "the recording does not tell where it ends" } };
        return breaksAt(at, "no part of the recording begins where the next one should");
      }
      const inCluster = element.id === ELEMENT.cluster ? cluster(reader, element) : null;
      if (typeof inCluster === "object" && inCluster) return inCluster;
      const end = inCluster ?? element.end;
      if (end === null) return breaksAt(at, "a part of the recording has no length");
      if (end > source.size) return breaksAt(source.size, BREAKS_OFF);
      at = end;
    }
    return endsAt(at);
  });
}

/** Follows the blocks of a cluster; where it ends, or the extent that says where it breaks. */
function cluster(reader: BlockReader, { content, end }: Element): number | Extent {
  let at = content;
  while (end === null ? at < reader.size : at < end) {
    const element = elementAt(reader, at);
    if (!element || !IN_CLUSTER.has(element.id) || element.end === null) {
      if (end === null) return at;
      return breaksAt(at, "a piece of the recording is not what its length says");
    }
    if (end !== null && element.end > end) return breaksAt(at, "a piece of the recording is not what its length says");
    at = element.end;
    if (at > reader.size) return breaksAt(reader.size, BREAKS_OFF);
  }
  return at;
}

function* children(reader: BlockReader, from: number, to: number): Generator<Element & { end: number }, void, void> {
  for (let at = from; at < Math.min(to, reader.size - 12); ) {
    const element = elementAt(reader, at);
    if (!element || element.end === null || element.end > to) return;
    yield element as Element & { end: number };
    at = element.end;
  }
}

function unsigned(reader: BlockReader, { content, end }: { content: number; end: number }): number {
  let value = 0;
  for (let at = content; at < Math.min(end, content + 8); at += 1) value = value * 256 + reader.u8(at);
  return value;
}

function real(reader: BlockReader, { content, end }: { content: number; end: number }): number {
  const bytes = reader.bytes(content, end - content);
  const view = new DataView(bytes.buffer, bytes.byteOffset, bytes.length);
  return bytes.length === 4 ? view.getFloat32(0) : bytes.length === 8 ? view.getFloat64(0) : 0;
}

/** Nanoseconds count from the first day of 2001 (RFC 8794, 7.6). */
const EPOCH_2001 = Date.UTC(2001, 0, 1);

function summarise(source: ByteSource): Summary {
  const reader = new BlockReader(source);
  const header = elementAt(reader, 0);
  const segment = header?.end ? elementAt(reader, header.end) : null;
  if (!segment) return {};
  let [scale, duration] = [1_000_000, 0];
  const facts: { -readonly [K in keyof Summary]: Summary[K] | undefined } = {};
  for (const part of children(reader, segment.content, segment.end ?? source.size)) {
    if (part.id === ELEMENT.cluster) break;
    if (part.id === ELEMENT.info)
      for (const each of children(reader, part.content, part.end)) {
        if (each.id === ELEMENT.timestampScale) scale = unsigned(reader, each);
        if (each.id === ELEMENT.duration) duration = real(reader, each);
        if (each.id === ELEMENT.title)
          facts.title = new TextDecoder().decode(reader.bytes(each.content, Math.min(256, each.end - each.content)));
        if (each.id === ELEMENT.dateUtc) facts.dated = EPOCH_2001 + unsigned(reader, each) / 1e6;
      }
    if (part.id === ELEMENT.tracks)
      for (const track of children(reader, part.content, part.end))
        for (const video of children(reader, track.content, track.end))
          if (track.id === ELEMENT.track && video.id === ELEMENT.video)
            for (const each of children(reader, video.content, video.end)) {
              if (each.id === ELEMENT.pixelWidth) facts.width = unsigned(reader, each);
              if (each.id === ELEMENT.pixelHeight) facts.height = unsigned(reader, each);
            }
  }
  if (duration > 0) facts.duration = Math.round((duration * scale) / 1e6);
  return defined<Summary>(facts);
}

export const matroska: Format = {
  id: "matroska",
  kind: "video",
  title: "Matroska video",
  extensions: ["mkv", "mka"],
  signatures: [{ at: 0, mark: "\x1aE\xdf\xa3" }],
  loose: true,
  recognise: (head) => hasAscii(head, 0, "\x1aE\xdf\xa3"),
  follow,
  summarise,
};
/** Matroska with the codecs of the open web; distinguished by the document type (RFC 9559, section 4). */
export const webm: Format = {
  ...matroska,
  id: "webm",
  title: "WebM video",
  extensions: ["webm"],
  recognise: (head) => matroska.recognise(head) && String.fromCharCode(...head.subarray(0, 64)).includes("webm"),
};

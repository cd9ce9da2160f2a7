import { BlockReader } from "../../bytes/block-reader";
import { type ByteSource, MemorySource } from "../../bytes/byte-source";
import { following } from "../following";
import { breaksAt, cannotTell, damaged, type Extent, type Format, hasAscii, type Kind, SOUND, type Summary, type Verdict } from "../format";
import { defined, exifFacts, TiffReader } from "../tiff-directory";
import { BRANDS, TOP_BOXES } from "./box-names";
import { type Box, boxAt, boxesIn, findBox, findBoxes } from "./boxes";
import { brokenUnits, fragmentSamples, readTracks, type Sample, trackSamples } from "./samples";

const MOST_TOP_BOXES = 1_000_000;
const BREAKS_OFF = "the file breaks off before its end";

/** Bytes at the end of the data that may be sound, which is not looked into, for the film to be proven. */
const MOST_UNPROVEN = 2048;

/** ISO base media files: ISO/IEC 14496-12; pictures in them: ISO/IEC 23008-12. */
function follow(source: ByteSource): Extent | null {
  return following(source, BREAKS_OFF, (reader) => {
    const tops: Box[] = [];
    let at = 0;
    while (at + 8 <= source.size && tops.length < MOST_TOP_BOXES) {
      const box = boxAt(reader, at);
      if (!box || !TOP_BOXES.has(box.type) || (box.type === "ftyp" && tops.length > 0)) break;
      if (box.end > source.size) return brokenBox(reader, box, tops);
      tops.push(box);
      at = box.end;
    }
    if (tops.length === 0 || (tops.length === 1 && tops[0]?.type !== "moov"))
      return tops[0]?.type === "ftyp" ? breaksAt(at, "nothing comes after the file's beginning") : null;
    const open = tops[tops.length - 1]?.toEnd ?? false;
    const { verdict, proven } = judge(reader, tops, at);
    // A file that breaks off between two boxes ends there as well; what lacks its index goes on somewhere.
    const index = tops.some(({ type }) => type === "moov" || type === "meta");
    // Recordings in fragments end with an index of these (ISO/IEC 14496-12, 8.8.9), which may be left out.
    const mayGoOn = tops.some(({ type }) => type === "moof") && tops.at(-1)?.type === "mdat";
    return { size: at, closed: !open && index, verdict, ...(proven < at ? { proven } : {}), ...(mayGoOn ? { mayGoOn } : {}) };
  });
}

/** A box that runs past the end: data that break off, or no box at all. */
function brokenBox(reader: BlockReader, box: Box, before: readonly Box[]): Extent | null {
  if (before.length === 0) return null;
  return breaksAt(
    reader.size,
    box.type === "mdat" && !before.some(({ type }) => type === "moov") ? "the recording breaks off before its index" : BREAKS_OFF,
  );
}

interface Judged {
  readonly verdict: Verdict;
  /** So many bytes are proven, whatever the verdict. */
  readonly proven: number;
}

function judge(reader: BlockReader, tops: readonly Box[], end: number): Judged {
  const moov = tops.find(({ type }) => type === "moov");
  const meta = tops.find(({ type }) => type === "meta");
  if (moov) return judgeFilm(reader, moov, tops, end);
  if (meta) return { verdict: judgePicture(reader, meta, end), proven: end };
  return { verdict: damaged(end, "the index of the recording is missing"), proven: end };
}

const PICTURE = "\xff\xd8";
/** What every sample of a track begins with: a start code (ISO/IEC 14496-2, 6.2.1), the beginning of a picture (ITU-T T.81, B.2.1). */
const SAMPLES_BEGIN: Readonly<Record<string, string>> = { mp4v: "\0\0\x01", jpeg: PICTURE, mjpa: PICTURE };

function judgeFilm(reader: BlockReader, moov: Box, tops: readonly Box[], end: number): Judged {
  const tracks = readTracks(reader, moov);
  const data = tops.filter(({ type }) => type === "mdat");
  const inData = (at: number, length: number) => data.some((box) => at >= box.content && at + length <= box.end);
  let checked = 0;
  let samples = 0;
  // What stands behind the last data says where they end; before that, only pieces that can be looked into do.
  const last = tops[tops.length - 1] as Box;
  let proven = last.type === "mdat" ? last.content : end;
  const wrong = (at: number, length: number, nalLength: number, begins = ""): Verdict | null => {
    samples += 1;
    if (length > 0 && !inData(at, length)) return damaged(Math.min(at, end), "the index names pieces that are not in the file");
    if (begins !== "" && length >= begins.length && !reader.has(at, begins))
      return damaged(at, "a piece of the film does not begin as the index says");
    if (nalLength === 0) return null;
    const broken = brokenUnits(reader, at, length, nalLength);
    if (broken >= 0) return damaged(broken, "a piece of the film is not what the index says");
    checked += 1;
    proven = Math.max(proven, at + length);
    return null;
  };
  const fail = (verdict: Verdict): Judged => ({ verdict, proven: end });
  for (const track of tracks)
    for (const { at, length } of trackSamples(reader, track)) {
      const problem = wrong(at, length, track.nalLength, SAMPLES_BEGIN[track.codec]);
      if (problem) return fail(problem);
    }
  const fragments = tops.filter(({ type }) => type === "moof");
  const numbers = fragments.map((moof) => sequenceNumber(reader, moof));
  const next = numbers.findIndex((number, index) => index > 0 && number <= (numbers[index - 1] as number));
  if (next > 0) return fail(damaged((fragments[next] as Box).at, "the fragments of the recording do not follow one another"));
  for (const moof of fragments)
    for (const { at, length, track } of fragmentSamples(reader, moof)) {
      const problem = wrong(at, length, tracks.find(({ id }) => id === track)?.nalLength ?? 0);
      if (problem) return fail(problem);
    }
  if (samples === 0) return fail(damaged(moov.at, "the index of the recording names nothing"));
  if (checked === 0) return { verdict: cannotTell("the recording's own coding is not followed"), proven };
  if (end - proven > MOST_UNPROVEN) return { verdict: cannotTell("the last pieces of the recording are not followed"), proven };
  return { verdict: SOUND, proven: end };
}

/** The number of a fragment: they increase (ISO/IEC 14496-12, 8.8.5). */
function sequenceNumber(reader: BlockReader, moof: Box): number {
  const header = findBox(reader, moof, "mfhd");
  return header ? reader.u32be(header.content + 4) : 0;
}

/** A sample of a film, and what it must be by its coding. */
export interface KnownSample extends Sample {
  isHere(bytes: Uint8Array): boolean;
}

/** The samples behind a place that show by their own bytes that they are, of a film whose index stands before it; in the order of the file. */
export function samplesBehind(reader: BlockReader, from: number): KnownSample[] {
  const found: KnownSample[] = [];
  for (let box = boxAt(reader, 0); box && box.end <= from && TOP_BOXES.has(box.type); box = boxAt(reader, box.end)) {
    if (box.type !== "moov") continue;
    for (const { nalLength, codec, ...track } of readTracks(reader, box)) {
      const begins = SAMPLES_BEGIN[codec];
      if (nalLength === 0 && !begins) continue;
      let seen = 0;
      for (const { at, length } of trackSamples(reader, { nalLength, codec, ...track })) {
        if (at < from || length < LEAST_KNOWN || length > MOST_KNOWN) continue;
        found.push({ at, length, isHere: (bytes) => isSample(bytes, nalLength, begins ?? "") });
        seen += 1;
        if (seen >= MOST_KNOWN_SAMPLES) break;
      }
    }
    break;
  }
  return found.sort((a, b) => a.at - b.at);
}
const [LEAST_KNOWN, MOST_KNOWN, MOST_KNOWN_SAMPLES] = [64, 1 << 17, 4];

function isSample(bytes: Uint8Array, nalLength: number, begins: string): boolean {
  if (nalLength > 0) return bytes[0] === 0 && brokenUnits(new BlockReader(new MemorySource(bytes)), 0, bytes.length, nalLength) < 0;
  if (!hasAscii(bytes, 0, begins)) return false;
  // A picture ends with its mark, behind which it may be filled up (ITU-T T.81, B.2.1).
  const last = bytes.findLastIndex((byte) => byte !== 0);
  return begins !== PICTURE || (last > 0 && bytes[last - 1] === 0xff && bytes[last] === 0xd9);
}

/** An item of a picture file and where its bytes stand (ISO/IEC 14496-12, 8.11.3). */
interface Item {
  readonly id: number;
  readonly type: string;
  readonly extents: readonly { at: number; length: number }[];
}

const MOST_ITEMS = 10_000;

function readItems(reader: BlockReader, meta: Box): Item[] {
  const types = new Map<number, string>();
  const info = findBox(reader, meta, "iinf");
  if (info) {
    const short = reader.u8(info.content) === 0;
    for (const entry of boxesIn(reader, info.content + (short ? 6 : 8), info.end)) {
      if (entry.type !== "infe" || reader.u8(entry.content) < 2) continue;
      const wide = reader.u8(entry.content) === 3;
      types.set(wide ? reader.u32be(entry.content + 4) : reader.u16be(entry.content + 4), reader.ascii(entry.content + (wide ? 10 : 8), 4));
    }
  }
  const places = findBox(reader, meta, "iloc");
  if (!places) return [];
  const version = reader.u8(places.content);
  const sizes = reader.u16be(places.content + 4);
  const [offsetBytes, lengthBytes, baseBytes, indexBytes] = [
    sizes >> 12,
    (sizes >> 8) & 15,
    (sizes >> 4) & 15,
    version > 0 ? sizes & 15 : 0,
  ];
  let at = places.content + 6;
  const take = (bytes: number) => {
    let value = 0;
    for (let i = 0; i < bytes; i += 1) value = value * 256 + reader.u8(at + i);
    at += bytes;
    return value;
  };
  const items: Item[] = [];
  const data = findBox(reader, meta, "idat");
  for (let left = Math.min(take(version < 2 ? 2 : 4), MOST_ITEMS); left > 0 && at < places.end; left -= 1) {
    const id = take(version < 2 ? 2 : 4);
    const method = version > 0 ? take(2) & 15 : 0;
    take(2);
    const base = take(baseBytes) + (method === 1 && data ? data.content : 0);
    const extents = [];
    for (let count = take(2); count > 0 && at < places.end; count -= 1) {
      take(indexBytes);
      const offset = take(offsetBytes);
      extents.push({ at: base + offset, length: take(lengthBytes) });
    }
    items.push({ id, type: types.get(id) ?? "", extents });
  }
  return items;
}

function judgePicture(reader: BlockReader, meta: Box, end: number): Verdict {
  const items = readItems(reader, meta);
  if (items.length === 0) return damaged(meta.at, "the list of the picture's parts is missing");
  const settings = [...findBoxes(reader, meta.content + 4, meta.end, "hvcC")][0];
  const nalLength = settings ? (reader.u8(settings.content + 21) & 3) + 1 : 4;
  let checked = 0;
  for (const { type, extents } of items)
    for (const { at, length } of extents) {
      if (at + length > end) return damaged(Math.min(at, end), "parts of the picture are missing");
      if (type !== "hvc1" || extents.length !== 1) continue;
      const broken = brokenUnits(reader, at, length, nalLength);
      if (broken >= 0) return damaged(broken, "a part of the picture is not what the list says");
      checked += 1;
    }
  return checked > 0 ? { verdict: "sound" } : cannotTell("the picture's own coding is not followed");
}

/** Seconds from the first day of 1904 to that of 1970 (ISO/IEC 14496-12, 8.2.2.3). */
const EPOCH_1904 = 2_082_844_800;

function filmFacts(source: ByteSource): Summary {
  const reader = new BlockReader(source);
  for (const moov of boxesIn(reader, 0, source.size)) {
    if (moov.type !== "moov") continue;
    const header = findBox(reader, moov, "mvhd");
    const facts: { -readonly [K in keyof Summary]: Summary[K] } = {};
    if (header) {
      const long = reader.u8(header.content) === 1;
      const made = long ? reader.u64be(header.content + 4) : reader.u32be(header.content + 4);
      if (made > EPOCH_1904) facts.dated = (made - EPOCH_1904) * 1000;
      const scale = reader.u32be(header.content + (long ? 20 : 12));
      const length = long ? reader.u64be(header.content + 24) : reader.u32be(header.content + 16);
      if (scale > 0) facts.duration = Math.round((length / scale) * 1000);
    }
    for (const track of findBoxes(reader, moov.content, moov.end, "tkhd")) {
      const width = reader.u32be(track.end - 8) >>> 16;
      const height = reader.u32be(track.end - 4) >>> 16;
      if (width > 0 && height > 0) Object.assign(facts, { width, height });
    }
    const name = findBox(reader, moov, "\xa9nam");
    const title = name ? textOf(reader, name) : undefined;
    return title ? { ...facts, title } : facts;
  }
  return {};
}

/** A text of the QuickTime form (length, language, characters) or of the item-list form (a box "data"). */
function textOf(reader: BlockReader, box: Box): string | undefined {
  const from = reader.has(box.content + 4, "data") ? box.content + 16 : box.content + 4;
  const text = new TextDecoder().decode(reader.bytes(from, Math.max(0, Math.min(256, box.end - from))));
  return text.trim() || undefined;
}

function pictureFacts(source: ByteSource): Summary {
  const reader = new BlockReader(source);
  for (const meta of boxesIn(reader, 0, source.size)) {
    if (meta.type !== "meta") continue;
    let size: { width?: number; height?: number } = {};
    for (const box of findBoxes(reader, meta.content + 4, meta.end, "ispe")) {
      const width = reader.u32be(box.content + 4);
      if (width > (size.width ?? 0)) size = { width, height: reader.u32be(box.content + 8) };
    }
    const exif = readItems(reader, meta).find(({ type }) => type === "Exif")?.extents[0];
    if (!exif || exif.length < 12) return size;
    const base = exif.at + 4 + reader.u32be(exif.at);
    const { thumbnail: _, ...facts } = exifFacts(new TiffReader(reader, base));
    return { ...facts, ...size };
  }
  return {};
}

const brand = (head: Uint8Array) => (hasAscii(head, 4, "ftyp") ? String.fromCharCode(...head.subarray(8, 12)) : "");
const meant = (head: Uint8Array) => BRANDS.find(([pattern]) => pattern.test(brand(head)))?.[1] ?? (brand(head) ? "mp4" : null);

const signatures = [{ at: 4, mark: "ftyp" }];
const iso = (id: string, kind: Kind, title: string, extensions: string[], rest: Partial<Format> = {}): Format => ({
  id,
  kind,
  title,
  extensions,
  signatures,
  // The pieces' lengths are followed, not what is coded in them.
  loose: true,
  recognise: (head) => meant(head) === id,
  follow,
  summarise: (source) => defined<Summary>(kind === "pictures" ? pictureFacts(source) : filmFacts(source)),
  ...rest,
});

/**
 * A recording may also begin with its index or data, without a brand (the QuickTime file format). Four letters stand anywhere by chance:
 * an index begins with its header, and what only makes room is empty.
 */
const bare = (head: Uint8Array) =>
  hasAscii(head, 4, "mdat") ||
  (hasAscii(head, 4, "moov") && ["mvhd", "cmov", "rmra"].some((type) => hasAscii(head, 12, type))) ||
  (hasAscii(head, 4, "wide") && hasAscii(head, 0, "\0\0\0\x08"));

export const isoMediaFormats: readonly Format[] = [
  iso("heic", "pictures", "HEIC picture", ["heic", "heif"]),
  iso("avif", "pictures", "AVIF picture", ["avif"]),
  iso("iso-raw", "pictures", "camera raw picture", ["cr3"], { summarise: filmFacts }),
  iso("m4a", "audio", "MPEG-4 sound", ["m4a", "m4b"]),
  iso("3gp", "video", "phone video", ["3gp", "3g2"]),
  iso("mov", "video", "QuickTime video", ["mov", "qt"], {
    signatures: [...signatures, { at: 4, mark: "moov" }, { at: 4, mark: "mdat" }, { at: 4, mark: "wide" }],
    recognise: (head) => meant(head) === "mov" || bare(head),
  }),
  iso("mp4", "video", "MPEG-4 video", ["mp4", "m4v"], { recognise: (head) => meant(head) === "mp4" }),
];

import { crc32 } from "node:zlib";
import { BlockReader } from "../../bytes/block-reader";
import { PastEnd } from "../../bytes/past-end";
import type { Extent, Format } from "../../formats/format";
import { samplesBehind } from "../../formats/iso-media/iso-media";
import { text } from "../../formats/pdf/words";
import { isTreePage } from "../../formats/sqlite/page";
import { missingPages } from "../../formats/sqlite/sqlite";
import { missingDirectory } from "../../formats/tiff";
import { TiffReader } from "../../formats/tiff-directory";
import { traitsOf } from "../../formats/traits";
import { damageAt, type PieceRoom, type Pieces } from "./pieces";

/** Something whose place in the file is known, though not where on the disk: it stands where the file goes on. */
export interface Landmark {
  /** Byte of the file at which it begins. */
  readonly at: number;
  /** Bytes that are looked at. */
  readonly length: number;
  stands(bytes: Uint8Array): boolean;
}

const ascii = (bytes: Uint8Array, from: number, to: number) => String.fromCharCode(...bytes.subarray(from, to));
const u16 = (bytes: Uint8Array, at: number) => (bytes[at] as number) | ((bytes[at + 1] as number) << 8);
const u32 = (bytes: Uint8Array, at: number) => (u16(bytes, at) | (u16(bytes, at + 2) << 16)) >>> 0;

type Finder = (reader: BlockReader, at: number, extent: Extent) => Landmark[];

/** Chunks of PNG that pictures have (ISO/IEC 15948, 11 and the registered extensions). */
const CHUNKS = /^(IDAT|IEND|PLTE|tRNS|cHRM|gAMA|iCCP|sBIT|sRGB|tEXt|zTXt|iTXt|bKGD|hIST|pHYs|sPLT|tIME|eXIf|cICP|acTL|fcTL|fdAT)$/;

const png: Finder = (reader, _at, { proven = 8 }) => {
  const chunk = (at: number): Landmark => ({ at: at + 4, length: 4, stands: (bytes) => CHUNKS.test(ascii(bytes, 0, 4)) });
  const length = reader.u32be(proven);
  return [...(length < 1 << 28 ? [chunk(proven + 12 + length)] : []), chunk(proven)];
};

/** RFC 3533, 6: a page of the same stream with the number that comes next. */
const ogg: Finder = (reader, at, { proven = at }) => {
  const serial = reader.u32(14);
  const page = (place: number): Landmark => ({
    at: place,
    length: 22,
    stands: (bytes) => ascii(bytes, 0, 5) === "OggS\0" && u32(bytes, 14) === serial,
  });
  if (!reader.has(proven, "OggS\0") || proven + 27 > reader.size) return [page(proven)];
  let length = 27 + reader.u8(proven + 26);
  for (let i = 0; i < reader.u8(proven + 26); i += 1) length += reader.u8(proven + 27 + i);
  return [page(proven + length), page(proven)];
};

/** Parts of a film's list: the number of their stream and what they are, the index behind them, room. */
const RIFF_CHUNKS = /^(\d\d(?:dc|db|wb|pc|tx)|ix\d\d|idx1|JUNK|LIST|rec |ICCP|ANIM|ANMF|ALPH|VP8 |VP8L|EXIF|XMP |fact|data)$/;
const riff: Finder = (_reader, at) => [{ at, length: 4, stands: (bytes) => RIFF_CHUNKS.test(ascii(bytes, 0, 4)) }];

/** Boxes that stand outermost (ISO/IEC 14496-12, 6.2.3). */
const BOXES = /^(moov|mdat|free|skip|wide|moof|mfra|sidx|meta|uuid|styp|udta)$/;
const isoMedia: Finder = (reader, damage) => {
  const samples = samplesBehind(reader, damage);
  if (samples.length > 0) return samples.map(({ at, length, isHere }) => ({ at, length, stands: isHere }));
  const found: Landmark[] = [];
  for (let at = 0, seen = 0; at + 16 <= reader.size && seen < 64; seen += 1) {
    const short = reader.u32be(at);
    const size = short === 1 ? reader.u64be(at + 8) : short;
    if (seen > 0 && !BOXES.test(reader.ascii(at + 4, 4))) break;
    if (size < 8) break;
    at += size;
    found.push({ at: at + 4, length: 4, stands: (bytes) => BOXES.test(ascii(bytes, 0, 4)) });
  }
  return found.slice(-1);
};

/** [MS-CFB], 2.3 and 2.6: the directory's first entry, and tables that name themselves as tables. */
const compound: Finder = (reader, at) => {
  const size = 1 << reader.u16(30);
  const table = size / 4;
  const place = (sector: number) => (sector + 1) * size;
  const found: Landmark[] = [
    { at: place(reader.u32(48)), length: 20, stands: (bytes) => ascii(bytes, 0, 20) === "R\0o\0o\0t\0 \0E\0n\0t\0r\0y\0".slice(0, 20) },
  ];
  for (let i = 0; i < Math.min(109, reader.u32(44)) && found.length < MOST_LANDMARKS; i += 1) {
    const sector = reader.u32(76 + i * 4);
    if (Math.floor(sector / table) !== i || place(sector) < at) continue;
    found.push({ at: place(sector) + (sector % table) * 4, length: 4, stands: (bytes) => u32(bytes, 0) === 0xffff_fffd });
  }
  return found.filter((each) => each.at + each.length > at);
};

/** The published format description ("7zFormat"): the list of contents, whose place, length and checksum the beginning gives. */
const sevenZip: Finder = (reader) => {
  const length = reader.u64(20);
  if (length === 0 || length > MOST_LIST) return [];
  const crc = reader.u32(28);
  return [{ at: 32 + reader.u64(12), length, stands: (bytes) => (bytes[0] === 1 || bytes[0] === 0x17) && crc32(bytes) === crc }];
};
const MOST_LIST = 1 << 16;

/** ISO/IEC 11172-3, 2.4.1.3: what stays the same in the headers of all frames. */
const mpegAudio: Finder = (reader, at) => {
  const { at: soundAt, word: first } = firstHeader(reader);
  if (first === null) return [{ at: soundAt, length: 4, stands: (bytes) => isFrameHeader(u32be(bytes, 0)) }];
  const same = (bytes: Uint8Array) => {
    const word = u32be(bytes, 0);
    return (word & FRAME_FIELDS) >>> 0 === (first & FRAME_FIELDS) >>> 0 && (word >>> 12) % 16 !== 15 && (word >>> 12) % 16 !== 0;
  };
  return [{ at, length: 4, stands: same }];
};
/** Sync, version, layer and check; the rate of samples. */
const FRAME_FIELDS = 0xffff_0c00;
const u32be = (bytes: Uint8Array, at: number) =>
  (((bytes[at] as number) << 24) | ((bytes[at + 1] as number) << 16) | ((bytes[at + 2] as number) << 8) | (bytes[at + 3] as number)) >>> 0;

const isFrameHeader = (word: number) =>
  word >>> 21 === 0x7ff &&
  ((word >>> 19) & 3) !== 1 &&
  ((word >>> 17) & 3) !== 0 &&
  (word >>> 12) % 16 !== 15 &&
  (word >>> 12) % 16 !== 0 &&
  ((word >>> 10) & 3) !== 3;

/** Where the sound begins behind its tag, and the first frame's header there; null: none stands there. */
function firstHeader(reader: BlockReader): { at: number; word: number | null } {
  let at = 0;
  if (reader.has(0, "ID3")) at = 10 + [6, 7, 8, 9].reduce((sum, i) => sum * 128 + (reader.u8(i) & 127), 0);
  const sound = at;
  for (let zeros = 0; zeros < 4096 && reader.u8(at) === 0; zeros += 1) at += 1;
  const word = reader.u32be(at);
  return isFrameHeader(word) ? { at, word } : { at: sound, word: null };
}

/** Parts of a cluster and of the segment (RFC 9559, 5.1): simple blocks, groups, clusters, cues, tags, room. */
const ELEMENTS: readonly (readonly number[])[] = [
  [0xa3],
  [0xa0],
  [0xec],
  [0xe7],
  [0x1f, 0x43, 0xb6, 0x75],
  [0x1c, 0x53, 0xbb, 0x6b],
  [0x12, 0x54, 0xc3, 0x67],
];
const ebml: Finder = (_reader, at) => [
  { at, length: 4, stands: (bytes) => ELEMENTS.some((id) => id.every((byte, i) => bytes[i] === byte)) },
];

/** TIFF 6.0, section 2: a list of contents, whose place the header or the list before it gives: entries in the order of their tags, of known types. */
const tiff: Finder = (reader) => {
  const little = reader.u8(0) === 0x49;
  if (reader.u8(little ? 2 : 3) !== 42) return [];
  const number = (bytes: Uint8Array, at: number) => (little ? u16(bytes, at) : ((bytes[at] as number) << 8) | (bytes[at + 1] as number));
  const stands = (bytes: Uint8Array) => {
    const count = number(bytes, 0);
    if (count < LEAST_ENTRIES || count > MOST_ENTRIES) return false;
    let sizes = 0;
    for (let i = 0, before = 0; i < Math.min(count, LOOKED_AT_ENTRIES); i += 1) {
      const tag = number(bytes, 2 + i * 12);
      const type = number(bytes, 4 + i * 12);
      if (tag <= before || type < 1 || type > 13) return false;
      // Width and height, of one value each.
      if ((tag === 256 || tag === 257) && (type === 3 || type === 4)) sizes += 1;
      before = tag;
    }
    return sizes === 2;
  };
  const at = missingDirectory(new TiffReader(reader, 0));
  return at === null ? [] : [{ at, length: 2 + LOOKED_AT_ENTRIES * 12, stands }];
};
const [LEAST_ENTRIES, LOOKED_AT_ENTRIES, MOST_ENTRIES] = [8, 8, 100];

/** ISO 32000-1, 7.5.4: what follows the table of contents, when its beginning says how many entries it has. */
const pdf: Finder = (reader, at) => {
  const from = Math.max(0, Math.min(at, reader.size) - XREF_REACH);
  const words = text(reader, from, Math.min(XREF_REACH * 2, reader.size - from));
  const table = [...words.matchAll(/(?<!start)xref\s{1,2}(\d+) (\d+)[ \t]*(?:\r\n|\r|\n)(?=\d{10} \d{5} [nf])/g)].at(-1);
  if (!table) return [];
  const trailer = from + table.index + table[0].length + Number(table[2]) * 20;
  return [{ at: trailer, length: 7, stands: (bytes) => ascii(bytes, 0, 7) === "trailer" }];
};
const XREF_REACH = 1 << 17;

/** SQLite file format, 1.5: pages of which the pages above say where they stand, and between which row numbers. */
const sqlite: Finder = (reader, at) => {
  const { pageSize, missing } = missingPages(reader);
  const usable = pageSize - reader.u8(20);
  // The first one may lie on both sides of the break.
  const behind = missing.filter(({ page }) => page * pageSize > at);
  return (behind.length > 1 ? behind.slice(1) : behind).map(({ page, table, over, most }) => ({
    at: (page - 1) * pageSize,
    length: pageSize,
    stands: (bytes) => isTreePage(bytes, usable, table, over, most),
  }));
};

const FINDERS: Readonly<Record<string, Finder>> = {
  pdf,
  tiff,
  png,
  opus: ogg,
  ogg,
  ogv: ogg,
  avi: riff,
  "7z": sevenZip,
  mp3: mpegAudio,
  sqlite,
  webm: ebml,
  matroska: ebml,
};
const BY_FAMILY: Readonly<Record<string, Finder>> = { "iso-media": isoMedia, compound };

/** What must stand farther on in a file, by what is known of it up to where it breaks. */
export function landmarksOf(format: Format, pieces: Pieces, extent: Extent): Landmark[] {
  const finder = FINDERS[format.id] ?? BY_FAMILY[traitsOf(format).family ?? ""];
  if (!finder) return [];
  try {
    return finder(new BlockReader(pieces.source(), 4096), damageAt(extent), extent)
      .filter(({ at }) => Number.isSafeInteger(at) && at >= 0)
      .slice(0, MOST_LANDMARKS);
  } catch (error) {
    if (!(error instanceof PastEnd)) throw error;
    return [];
  }
}

/** Each is looked for through all the reach. */
const MOST_LANDMARKS = 4;

const STEP = 1 << 20;
const MOST_SHIFTS = 256;

/**
 * Where on the disk the file's bytes may go on, by a landmark: disk offset minus byte of the file; the nearest first.
 * @param pieces the file as far as it is known
 */
export function shiftsOf(room: PieceRoom, pieces: Pieces, landmark: Landmark): number[] {
  const { disk, cluster, origin } = room;
  // A piece begins where a cluster does: of the file's byte 0 that is known, were it laid there in one go.
  const phase = pieces.boundaryBefore(landmark.at);
  const inCluster = landmark.at - phase;
  const near = pieces.lastAt + landmark.at - pieces.from;
  const from = Math.max(0, near - room.effort.reach);
  const to = Math.min(disk.size, near + room.effort.reach);
  const first = Math.floor((from - origin) / cluster) * cluster + origin + inCluster;
  const block = new Uint8Array(Math.max(STEP, cluster) + landmark.length);
  const found: number[] = [];
  for (let at = first < 0 ? first + cluster : first; at < to && !disk.isSpent; ) {
    const length = Math.min(block.length, disk.size - at);
    if (length < landmark.length) break;
    disk.read(at, block.subarray(0, length));
    let next = 0;
    for (; next + landmark.length <= length; next += cluster)
      if (landmark.stands(block.subarray(next, next + landmark.length))) found.push(at + next - landmark.at);
    at += next;
  }
  const here = pieces.lastAt - pieces.from;
  return found
    .filter((shift) => shift !== here)
    .sort((a, b) => Math.abs(a - here) - Math.abs(b - here))
    .slice(0, MOST_SHIFTS);
}

import { BlockReader } from "../bytes/block-reader";
import type { ByteSource } from "../bytes/byte-source";
import { following } from "./following";
import { breaksAt, damaged, type Extent, endsAt, type Format, hasAscii, hasSignature, type Signature, type Summary } from "./format";
import { defined, exifFacts, type TiffDirectory, TiffReader } from "./tiff-directory";
import { TAG } from "./tiff-tags";

const MOST_DIRECTORIES = 256;
/** Bytes before the list of contents at most, and of that list at least. */
const MOST_PICTURE = 1 << 28;
const LEAST_LIST = 100;

/**
 * TIFF 6.0: the file goes as far as the last directory, value or stretch of picture that a directory names. Camera raws are
 * built on it: further directories hang on some tags.
 */
function follow(source: ByteSource): Extent | null {
  return following(source, "the picture breaks off before its end", (reader) => {
    const tiff = new TiffReader(reader, 0);
    const main = tiff.directory(tiff.first);
    if (!main) {
      // It begins at an even byte (section 2).
      if (tiff.first < 8 || tiff.first > MOST_PICTURE || tiff.first % 2 !== 0) return null;
      // Nothing between the header and the list of contents shows where it broke.
      const size = Math.min(tiff.first, source.size);
      const verdict = damaged(8, "the picture's list of contents is not where the picture says", size);
      return { size, closed: false, verdict, proven: 8, expected: tiff.first + LEAST_LIST };
    }
    let end = 8;
    for (const directory of directories(tiff)) {
      end = Math.max(end, directory.end);
      for (const entry of directory.entries.values())
        if (entry.at + entry.bytes <= source.size) end = Math.max(end, entry.at + entry.bytes);
      for (const [offsets, counts] of STRETCHES) {
        const places = tiff.numbers(directory.entries.get(offsets));
        const lengths = tiff.numbers(directory.entries.get(counts));
        places.forEach((at, i) => {
          end = Math.max(end, at + (lengths[i] ?? 0));
        });
      }
    }
    if (end > source.size) return breaksAt(source.size, "the picture breaks off before its end");
    const missing = missingDirectory(tiff);
    if (missing === null || missing < end || missing > MOST_PICTURE || missing % 2 !== 0) return endsAt(end);
    // Between what stands here and the list that does not, nothing shows where it broke.
    const size = Math.min(missing, source.size);
    const verdict = damaged(end, "the list of a further page is not where the picture says", size);
    return { size, closed: false, verdict, proven: 8, expected: missing + LEAST_LIST };
  });
}

/** Where the next list of contents should stand, of the chain of pages (TIFF 6.0, section 2), that cannot be read; null: all can. */
export function missingDirectory(tiff: TiffReader): number | null {
  const seen = new Set<number>();
  for (let offset = tiff.first; offset > 0 && !seen.has(offset) && seen.size < MOST_DIRECTORIES; ) {
    seen.add(offset);
    const directory = tiff.directory(offset);
    if (!directory) return offset;
    offset = directory.next;
  }
  return null;
}

const STRETCHES = [
  [TAG.stripOffsets, TAG.stripByteCounts],
  [TAG.tileOffsets, TAG.tileByteCounts],
  [TAG.jpegAt, TAG.jpegLength],
] as const;

function* directories(tiff: TiffReader): Generator<TiffDirectory, void, void> {
  const seen = new Set<number>();
  const waiting = [tiff.first];
  for (let offset = waiting.shift(); offset !== undefined && seen.size < MOST_DIRECTORIES; offset = waiting.shift()) {
    if (seen.has(offset)) continue;
    seen.add(offset);
    const directory = tiff.directory(offset);
    if (!directory) continue;
    yield directory;
    if (directory.next > 0) waiting.push(directory.next);
    for (const tag of [TAG.subIfds, TAG.exifIfd, TAG.gpsIfd, TAG.interopIfd]) waiting.push(...tiff.numbers(directory.entries.get(tag), 32));
  }
}

function summarise(source: ByteSource): Summary {
  const tiff = new TiffReader(new BlockReader(source), 0);
  let size: { width?: number; height?: number } = {};
  let pages = 0;
  for (const directory of directories(tiff)) {
    const width = tiff.number(directory, TAG.width) ?? 0;
    if (width > 0) pages += 1;
    if (width > (size.width ?? 0)) size = { width, height: tiff.number(directory, TAG.height) ?? 0 };
  }
  return defined<Summary>({ ...exifFacts(tiff), ...size, pages: pages > 1 ? pages : undefined });
}

const signatures: readonly Signature[] = [
  { at: 0, mark: "II*\0" },
  { at: 0, mark: "MM\0*" },
  { at: 0, mark: "II+\0" },
  { at: 0, mark: "MM\0+" },
];

/** Raw pictures by how their maker's name begins: the TIFF in them looks alike. Common practice, no published source. */
const RAW_BY_MAKER: readonly (readonly [RegExp, string])[] = [
  [/^N/i, "nef"],
  [/^S/i, "arw"],
  [/^(P|R)/i, "pef"],
];
const COLOUR_FILTER = 32_803;
const PHOTOMETRIC = 262;

function resolve(source: ByteSource): string | null {
  const tiff = new TiffReader(new BlockReader(source), 0);
  const all = [...directories(tiff)];
  const main = all[0];
  if (!main) return null;
  if (tiff.reader.has(8, "CR\x02")) return "cr2";
  if (main.entries.has(TAG.rawVersion)) return "dng";
  if (!all.some((each) => tiff.number(each, PHOTOMETRIC) === COLOUR_FILTER)) return null;
  const make = tiff.text(main, TAG.make) ?? "";
  return RAW_BY_MAKER.find(([pattern]) => pattern.test(make))?.[1] ?? null;
}

const raw = (id: string): Format => ({
  id,
  kind: "pictures",
  title: "camera raw picture",
  extensions: [id],
  recognise: (head) => hasSignature(head, signatures),
  follow,
  summarise,
  loose: true,
});

/** Raw forms that are TIFF but for their first bytes. Common practice, no published source. */
const odd = (id: string, marks: string[]): Format => ({
  ...raw(id),
  signatures: marks.map((mark) => ({ at: 0, mark })),
  recognise: (head) => marks.some((mark) => hasAscii(head, 0, mark)),
});

export const tiffFormats: readonly Format[] = [
  { ...raw("tiff"), title: "TIFF picture", extensions: ["tif", "tiff"], signatures, resolve },
  ...["nef", "cr2", "arw", "dng", "pef"].map(raw),
  odd("orf", ["IIRO", "IIRS", "MMOR"]),
  odd("rw2", ["IIU\0"]),
];

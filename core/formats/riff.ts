import { BlockReader } from "../bytes/block-reader";
import type { ByteSource } from "../bytes/byte-source";
import { following } from "./following";
import { breaksAt, cannotTell, damaged, type Extent, endsAt, type Format, hasAscii, type Kind, type Summary } from "./format";
import { exifFacts, TiffReader } from "./tiff-directory";

const MOST_CHUNKS = 10_000_000;
const NAME = /^[\x20-\x7e]{4}$/;
const BREAKS_OFF = "the file breaks off before its end";

/**
 * RIFF: the published Multimedia Programming Interface, "Resource Interchange File Format": chunks padded to even. Sound beyond
 * 4 GB: EBU Tech 3306 (RF64); video beyond 1 GB: further RIFF chunks after the first (OpenDML AVI extensions).
 */
function follow(source: ByteSource): Extent | null {
  return following(source, BREAKS_OFF, (reader) => {
    const long = reader.has(0, "RF64") && reader.has(12, "ds64");
    const form = reader.ascii(8, 4);
    let end = (long ? reader.u64(20) : reader.u32(4)) + 8;
    if (end < 20) return null;
    let extent = chunks(reader, 12, end, long, form);
    while (extent.verdict.verdict === "sound" && form === "AVI " && reader.has(end, "RIFF") && reader.has(end + 8, "AVIX")) {
      const next = end + 8 + reader.u32(end + 4);
      extent = chunks(reader, end + 12, next, false, form);
      end = next;
    }
    return extent;
  });
}

function chunks(reader: BlockReader, from: number, end: number, long: boolean, form: string): Extent {
  let at = from;
  let seen = 0;
  let movie = 0;
  for (; at + 8 <= end && seen < MOST_CHUNKS; seen += 1) {
    if (at + 8 > reader.size) return breaksAt(reader.size, BREAKS_OFF, end);
    const name = reader.ascii(at, 4);
    if (!NAME.test(name)) return breaksAt(at, "no chunk begins where the next one should", end);
    let length = reader.u32(at + 4);
    if (long && name === "data" && length === 0xffff_ffff) length = reader.u64(28);
    if (at + 8 + length > end) return breaksAt(at, "a chunk runs past the end of the file");
    if (name === "LIST" && form === "AVI " && reader.has(at + 8, "movi")) {
      movie = at + 8;
      const inside = chunks(reader, at + 12, at + 8 + length, false, "");
      if (inside.verdict.verdict !== "sound") return inside;
    }
    if (name === "LIST" && reader.has(at + 8, "rec ") && form === "") {
      const inside = chunks(reader, at + 12, at + 8 + length, false, "");
      if (inside.verdict.verdict !== "sound") return inside;
    }
    if (name === "idx1" && movie > 0 && at + 8 + length <= reader.size) {
      const wrong = wrongEntry(reader, at + 8, length, movie);
      if (wrong !== null) return endsAt(end, damaged(wrong, "a part of the film is not where its index says"));
    }
    at += 8 + length + (length % 2);
  }
  if (end > reader.size) return breaksAt(reader.size, BREAKS_OFF, end);
  return endsAt(end);
}

/** The place of the first piece the old index (idx1) names that does not stand there; null: all do. */
function wrongEntry(reader: BlockReader, at: number, length: number, movie: number): number | null {
  // Offsets count from the list's name, or (in some makers' files) from the file's beginning.
  const first = length >= 16 ? reader.u32(at + 8) : 0;
  const base = reader.has(movie + first, reader.ascii(at, 4)) ? movie : 0;
  for (let i = 0; i + 16 <= length; i += 16) {
    const entry = at + i;
    const place = base + reader.u32(entry + 8);
    if (!reader.has(place, reader.ascii(entry, 4))) return Math.min(place, reader.size);
  }
  return null;
}

const riff = (id: string, kind: Kind, title: string, form: string, rest: Partial<Format>): Format => ({
  id,
  kind,
  title,
  extensions: [id],
  signatures: [{ at: 0, mark: "RIFF" }],
  recognise: (head) => (hasAscii(head, 0, "RIFF") || hasAscii(head, 0, "RF64")) && hasAscii(head, 8, form),
  follow,
  ...rest,
});

function soundFacts(source: ByteSource): Summary {
  const reader = new BlockReader(source);
  for (let at = 12; at + 24 <= source.size; ) {
    const length = reader.u32(at + 4);
    if (reader.has(at, "fmt ")) {
      const rate = reader.u32(at + 16);
      return rate > 0 ? { duration: Math.round((source.size / rate) * 1000) } : {};
    }
    at += 8 + length + (length % 2);
  }
  return {};
}

function filmFacts(source: ByteSource): Summary {
  const reader = new BlockReader(source);
  const at = reader.find("avih", 12, Math.min(source.size, 4096));
  if (at < 0) return {};
  return {
    duration: Math.round((reader.u32(at + 8) * reader.u32(at + 24)) / 1000),
    width: reader.u32(at + 40),
    height: reader.u32(at + 44),
  };
}

/** WebP: RFC 9649, 2.6 (the canvas) and 2.7; 9.1 of RFC 6386 for the size of a simple lossy picture. */
function pictureFacts(source: ByteSource): Summary {
  const reader = new BlockReader(source);
  if (reader.has(12, "VP8 ")) return { width: reader.u16(26) & 0x3fff, height: reader.u16(28) & 0x3fff };
  if (reader.has(12, "VP8L")) {
    const bits = reader.u32(21);
    return { width: (bits & 0x3fff) + 1, height: ((bits >>> 14) & 0x3fff) + 1 };
  }
  const size = { width: (reader.u32(24) & 0xffffff) + 1, height: (reader.u32(26) >>> 8) + 1 };
  const exif = reader.find("EXIF", 30);
  if (exif < 0) return size;
  const base = exif + 8 + (reader.has(exif + 8, "Exif\0\0") ? 6 : 0);
  return { ...exifFacts(new TiffReader(reader, base)), ...size };
}

/** WebP: the picture's own parts are looked at as far as their headers go (RFC 6386, 9.1 and 9.5; RFC 9649, 3.4). */
function followPicture(source: ByteSource): Extent | null {
  const extent = follow(source);
  if (extent?.verdict.verdict !== "sound") return extent;
  const reader = new BlockReader(source);
  for (let at = 12; at + 8 <= extent.size; ) {
    const length = reader.u32(at + 4);
    const data = at + 8;
    if (reader.has(at, "VP8 ") && !reader.has(data + 3, "\x9d\x01\x2a"))
      return { ...extent, verdict: damaged(data, "the picture data do not begin as they must") };
    if (reader.has(at, "VP8L") && reader.u8(data) !== 0x2f)
      return { ...extent, verdict: damaged(data, "the picture data do not begin as they must") };
    at += 8 + length + (length % 2);
  }
  return { ...extent, verdict: cannotTell("the picture's own coding is not followed") };
}

export const riffFormats: readonly Format[] = [
  riff("wav", "audio", "WAV sound", "WAVE", {
    loose: true,
    signatures: [
      { at: 0, mark: "RIFF" },
      { at: 0, mark: "RF64" },
    ],
    summarise: soundFacts,
  }),
  riff("avi", "video", "AVI video", "AVI ", { loose: true, summarise: filmFacts }),
  riff("webp", "pictures", "WebP picture", "WEBP", { follow: followPicture, loose: true, summarise: pictureFacts }),
];

import { BlockReader } from "../../bytes/block-reader";
import { type ByteSource, WindowSource } from "../../bytes/byte-source";
import { equalBytesIn } from "../../bytes/equal-bytes";
import { PastEnd } from "../../bytes/past-end";
import { breaksAt, cannotTell, damaged, type Extent, endsAt, type Format, type Summary } from "../format";
import { defined, exifFacts, TiffReader } from "../tiff-directory";
import { HUFFMAN_FRAMES, isFrame, isRestart, MARKER, PROGRESSIVE } from "./markers";
import { knownBefore, OpenScan } from "./open-scan";
import { type Component, type Frame, type HuffmanTable, huffmanTable, type Scan, ScanReader } from "./scan";

/** So many equal bytes hardly stand in coded coefficients; fill in the place of a cluster is longer. */
const EQUAL_BYTES = 128;
/** Coefficients a progressive picture may have to be followed (one byte each). */
const MOST_COEFFICIENTS = 160_000_000;
const MOST_SCANS = 512;
/** Bytes of a part that is worth asking what checks it. */
const LONG_SEGMENT = 1024;
/** Parts that follow one another as their lengths say: so many do not by chance. */
const ENOUGH_SEGMENTS = 2;

/** JPEG: ITU-T T.81, annex B (markers and segments), F and G (picture data). */
export const jpeg: Format = {
  id: "jpeg",
  kind: "pictures",
  title: "JPEG picture",
  extensions: ["jpg", "jpeg", "jpe", "jfif"],
  // After the start come application data, tables, a comment or (rarely) the frame itself.
  signatures: [0xc0, 0xc1, 0xc2, 0xc4, 0xdb, 0xdd, 0xfe, ...Array.from({ length: 16 }, (_, i) => 0xe0 + i)].map((marker) => ({
    at: 0,
    mark: `\xff\xd8\xff${String.fromCharCode(marker)}`,
  })),
  recognise: (head) => head[0] === 0xff && head[1] === MARKER.soi && head[2] === 0xff && (head[3] ?? 0) >= 0xc0,
  follow(source) {
    const { extent, frame, segments } = followJpeg(source);
    return extent.verdict.verdict === "damaged" && !frame && segments.length < ENOUGH_SEGMENTS && !saysItsName(source, segments[0])
      ? null
      : extent;
  },
  summarise,
};

export interface FollowedJpeg {
  readonly extent: Extent;
  readonly frame: Frame | null;
  /** The scan it broke off in. */
  readonly open: OpenScan | null;
  /** Where the first scan's data begin; 0: there is none. */
  readonly dataAt: number;
  /** Application data, for further pictures in the same file. Bytes. */
  readonly segments: readonly { readonly marker: number; readonly at: number; readonly length: number }[];
}

/**
 * Whether a picture's first part is an application's that names itself (ITU-T T.81, B.2.4.6; the common ones do by letters). Two bytes of
 * mark and the first of the next stand in packed data by chance: without a header that can be read, that must speak for a picture.
 */
function saysItsName(source: ByteSource, first: { marker: number; at: number } | undefined): boolean {
  if (!first || (first.marker & 0xf0) !== 0xe0 || first.at + 8 > source.size) return false;
  return /^[A-Za-z]{4}$/.test(new BlockReader(source, 64).ascii(first.at + 4, 4));
}

/** @param keep whether states to go on from are kept, for a picture that breaks off */
export function followJpeg(source: ByteSource, keep = false): FollowedJpeg {
  return new Follower(source, keep).run();
}

class Follower {
  readonly #reader: BlockReader;
  readonly #dc: (HuffmanTable | undefined)[] = [];
  readonly #ac: (HuffmanTable | undefined)[] = [];
  /** Of each table of quantization, the step of the DC coefficient. */
  readonly #steps: (number | undefined)[] = [];
  readonly #segments: { marker: number; at: number; length: number }[] = [];
  #frame: Frame | null = null;
  #restart = 0;
  #scans = 0;
  #dataAt = 0;
  #open: OpenScan | null = null;
  #unread: string | null = null;
  /** Where data of a progressive picture may stand in the place of others. */
  #doubtAt: number | null = null;

  constructor(
    private readonly source: ByteSource,
    private readonly keep: boolean,
  ) {
    this.#reader = new BlockReader(source);
  }

  run(): FollowedJpeg {
    let extent: Extent;
    try {
      extent = this.#follow();
    } catch (error) {
      if (!(error instanceof PastEnd)) throw error;
      extent = breaksAt(this.source.size, "the picture breaks off before its end");
    }
    return { extent, frame: this.#frame, open: this.#open, dataAt: this.#dataAt, segments: this.#segments };
  }

  #follow(): Extent {
    const reader = this.#reader;
    if (reader.u16be(0) !== 0xffd8) return breaksAt(0, "it does not begin like a picture");
    for (let at = 2; ; ) {
      if (reader.u8(at) !== 0xff) return breaksAt(at, "no marker stands where the next part should begin");
      const marker = reader.u8(at + 1);
      if (marker === 0xff) {
        at += 1;
        continue;
      }
      if (marker === MARKER.eoi) return this.#end(at + 2);
      if (marker === MARKER.tem) {
        at += 2;
        continue;
      }
      if (marker < 0xc0 || isRestart(marker) || marker === MARKER.soi) return breaksAt(at, "an unknown marker stands between the parts");
      const length = reader.u16be(at + 2);
      if (length < 2) return breaksAt(at, "a part of the picture has no length");
      if (at + 2 + length > this.source.size) return breaksAt(this.source.size, "the picture breaks off before its end");
      this.#segments.push({ marker, at, length: length + 2 });
      const problem = this.#segment(marker, at + 4, length - 2);
      if (problem) return breaksAt(at, problem);
      at += 2 + length;
      if (marker !== MARKER.sos) continue;
      const next = this.#scan(at, at - length + 2);
      if (typeof next !== "number") return next;
      at = next;
    }
  }

  #end(at: number): Extent {
    if (!this.#frame || this.#scans === 0) return breaksAt(at - 2, "the picture ends before any picture data");
    const end = Math.max(at, this.#lastPicture());
    const unfollowed = end - at + this.#segments.reduce((sum, segment) => sum + this.#unfollowedIn(segment), 0);
    const doubt = this.#unread ?? (this.#doubtAt === null ? null : "equal bytes stand among its data, where others may have stood");
    return {
      ...endsAt(end, doubt ? cannotTell(doubt) : undefined),
      ...(this.#unread || this.#doubtAt === null ? {} : { proven: this.#doubtAt }),
      ...(unfollowed > 0 ? { unfollowed } : {}),
    };
  }

  /** Bytes of application data or a comment that nothing checks: all but the small picture in them, when that is right. */
  #unfollowedIn({ marker, at, length }: { marker: number; at: number; length: number }): number {
    if (marker < MARKER.app0 || length < LONG_SEGMENT) return 0;
    if (marker !== MARKER.app1 || !this.#reader.has(at + 4, "Exif\0\0")) return length;
    const small = exifFacts(new TiffReader(this.#reader, at + 10)).thumbnail;
    if (!small || small.at < at || small.at + small.length > at + length) return length;
    const { extent } = followJpeg(new WindowSource(this.source, small.at, small.length));
    return extent.verdict.verdict === "sound" ? length - small.length : length;
  }

  /** Where the last of several pictures in one file ends (multi-picture format, CIPA DC-007, 5.2.3); 0: there is one. */
  #lastPicture(): number {
    const segment = this.#segments.find(({ marker, at }) => marker === MARKER.app2 && this.#reader.has(at + 4, "MPF\0"));
    if (!segment) return 0;
    const base = segment.at + 8;
    const tiff = new TiffReader(this.#reader, base);
    const entries = tiff.directory(tiff.first)?.entries.get(0xb002);
    let last = 0;
    for (let i = 0; entries && i < Math.min(64, entries.bytes / 16); i += 1) {
      const at = entries.at + i * 16;
      const offset = tiff.u32(at + 8);
      const start = offset === 0 ? 0 : base + offset;
      const size = tiff.u32(at + 4);
      if (start + size <= this.source.size && this.#reader.has(start, "\xff\xd8")) last = Math.max(last, start + size);
    }
    return last;
  }

  /** Takes a segment's content in; the problem that makes the picture end there, if there is one. */
  #segment(marker: number, at: number, length: number): string | null {
    if (marker === MARKER.dht) return this.#tables(at, length);
    if (marker === MARKER.dqt) this.#readSteps(at, length);
    if (marker === MARKER.dri) this.#restart = length >= 2 ? this.#reader.u16be(at) : 0;
    if (isFrame(marker)) return this.#startFrame(marker, at, length);
    return null;
  }

  #tables(at: number, length: number): string | null {
    for (let part = at; part < at + length; ) {
      const kind = this.#reader.u8(part);
      const counts = this.#reader.bytes(part + 1, 16).slice();
      const values = counts.reduce((sum, count) => sum + count, 0);
      if (values > 256 || part + 17 + values > at + length || kind >> 4 > 1 || (kind & 15) > 3) return "a table of codes is damaged";
      const table = huffmanTable(counts, this.#reader.bytes(part + 17, values));
      if (!table) return "a table of codes is damaged";
      (kind >> 4 === 0 ? this.#dc : this.#ac)[kind & 15] = table;
      part += 17 + values;
    }
    return null;
  }

  /** Reads the steps of DC coefficients off tables of quantization (T.81, B.2.4.1); what is damaged in them is for who draws the picture. */
  #readSteps(at: number, length: number): void {
    for (let part = at; part + 65 <= at + length; ) {
      const kind = this.#reader.u8(part);
      const wide = kind >> 4 === 1;
      this.#steps[kind & 15] = wide ? this.#reader.u16be(part + 1) : this.#reader.u8(part + 1);
      part += wide ? 129 : 65;
    }
  }

  #startFrame(marker: number, at: number, length: number): string | null {
    if (this.#frame) return "a second picture begins before the first has ended";
    const reader = this.#reader;
    const count = length >= 6 ? reader.u8(at + 5) : 0;
    const [precision, height, width] = [reader.u8(at), reader.u16be(at + 1), reader.u16be(at + 3)];
    if (count === 0 || count > 4 || length !== 6 + 3 * count || width === 0 || (precision !== 8 && precision !== 12 && precision !== 16))
      return "the picture's header is damaged";
    const parts = Array.from({ length: count }, (_, i) => {
      const part = at + 6 + 3 * i;
      return { id: reader.u8(part), h: reader.u8(part + 1) >> 4, v: reader.u8(part + 1) & 15, quantization: reader.u8(part + 2) };
    });
    if (parts.some(({ h, v, quantization }) => h < 1 || h > 4 || v < 1 || v > 4 || quantization > 3))
      return "the picture's header is damaged";
    const maxH = Math.max(...parts.map(({ h }) => h));
    const maxV = Math.max(...parts.map(({ v }) => v));
    const mcusWide = Math.ceil(width / (8 * maxH));
    const mcusHigh = Math.ceil(height / (8 * maxV));
    const coefficients = parts.reduce((sum, { h, v }) => sum + h * v, 0) * mcusWide * mcusHigh * 64;
    const progressive = marker === PROGRESSIVE;
    if (height === 0) this.#unread = "the picture's height comes after its data, which is not followed";
    else if (!HUFFMAN_FRAMES.has(marker)) this.#unread = "the picture data are coded in a way that is not followed";
    else if (progressive && coefficients > MOST_COEFFICIENTS) this.#unread = "the picture is too large to be followed";
    const components: Component[] = parts.map((part) => ({
      ...part,
      blocksWide: Math.ceil(Math.ceil((width * part.h) / maxH) / 8),
      blocksHigh: Math.ceil(Math.ceil((height * part.v) / maxV) / 8),
      stride: mcusWide * part.h,
      known: new Uint8Array(progressive && !this.#unread ? mcusWide * part.h * mcusHigh * part.v * 64 : 0),
    }));
    this.#frame = { marker, width, height, precision, components, mcusWide, mcusHigh, maxH, maxV };
    return null;
  }

  /** Follows the data of the scan whose header's content stands before `at`; where the next marker stands. */
  #scan(at: number, headerAt: number): number | Extent {
    const frame = this.#frame;
    if (!frame) return breaksAt(at, "picture data come before the picture's header");
    this.#scans += 1;
    if (this.#dataAt === 0) this.#dataAt = at;
    if (this.#scans > MOST_SCANS) return breaksAt(at, "the picture has more passes than make sense");
    if (this.#unread) return this.#nextMarker(at);
    const scan = this.#readScan(frame, headerAt);
    if (!scan) return breaksAt(headerAt, "the header of the picture data is damaged");
    const before = this.keep ? knownBefore(frame, scan) : null;
    const reader = new ScanReader(this.source, frame, scan, at);
    const end = reader.run(this.keep);
    if (!end.ended) {
      this.#open = new OpenScan(frame, scan, reader.kept, end.mcu, before);
      return breaksAt(end.at, end.reason, this.#expected(at, end));
    }
    if (end.skipped > 0) {
      const marker = this.#reader.u8(end.at + 1);
      // Many makers fill up before the end; between restarts or scans it means that data are missing.
      if (end.skipped > 64 || marker !== MARKER.eoi) {
        this.#open = new OpenScan(frame, scan, reader.kept, reader.mcu, before);
        return breaksAt(end.at, "picture data come that belong to nothing");
      }
      return { size: end.at + 2, closed: true, verdict: damaged(end.at - end.skipped, "picture data come that belong to nothing") };
    }
    // Runs of blocks without a coefficient (T.81, G.1.2.2) let such a scan end where it should though many of its data are others.
    if (frame.marker === PROGRESSIVE && scan.spectralStart > 0) this.#doubtAt ??= equalBytesIn(this.source, at, end.at, EQUAL_BYTES);
    return end.at;
  }

  /** In a picture of one pass the data read so far say how many there are in all. */
  #expected(dataAt: number, { at, mcu }: { at: number; mcu: number }): number | undefined {
    const frame = this.#frame;
    if (!frame || frame.marker === PROGRESSIVE || mcu === 0) return undefined;
    return Math.round(dataAt + ((at - dataAt) * frame.mcusWide * frame.mcusHigh) / mcu);
  }

  #readScan(frame: Frame, at: number): Scan | null {
    const reader = this.#reader;
    const length = reader.u16be(at - 2);
    const count = reader.u8(at);
    if (count < 1 || count > 4 || length !== 6 + 2 * count) return null;
    const parts = [];
    for (let i = 0; i < count; i += 1) {
      const component = frame.components.find(({ id }) => id === reader.u8(at + 1 + 2 * i));
      if (!component) return null;
      const tables = reader.u8(at + 2 + 2 * i);
      parts.push({ component, dc: this.#dc[tables >> 4], ac: this.#ac[tables & 15], dcStep: this.#steps[component.quantization] ?? 0 });
    }
    const spectralStart = reader.u8(at + 1 + 2 * count);
    const spectralEnd = reader.u8(at + 2 + 2 * count);
    const approximation = reader.u8(at + 3 + 2 * count);
    if (frame.marker === PROGRESSIVE && (spectralEnd > 63 || spectralStart > spectralEnd || (spectralStart > 0 && count > 1))) return null;
    if (parts.reduce((sum, { component: { h, v } }) => sum + h * v, 0) > 10 && count > 1) return null;
    return { parts, spectralStart, spectralEnd, high: approximation >> 4, low: approximation & 15, restart: this.#restart };
  }

  /** Past coded data that are not followed: the next marker that is neither a stuffed 0xFF nor a restart. */
  #nextMarker(from: number): number | Extent {
    for (let at = this.#reader.find("\xff", from); at >= 0 && at + 1 < this.source.size; at = this.#reader.find("\xff", at + 1)) {
      const marker = this.#reader.u8(at + 1);
      if (marker === 0 || marker === 0xff || isRestart(marker)) continue;
      const allowed = marker === MARKER.eoi || marker === MARKER.dht || (marker >= 0xda && marker <= 0xdd) || marker >= MARKER.app0;
      return allowed ? at : breaksAt(at, "the picture data are interrupted by something else");
    }
    return breaksAt(this.source.size, "the picture breaks off before its end");
  }
}

function summarise(source: ByteSource): Summary {
  const reader = new BlockReader(source);
  let facts: Summary = {};
  let size: { width?: number; height?: number } = {};
  for (let at = 2; at + 10 < source.size && reader.u8(at) === 0xff; ) {
    const marker = reader.u8(at + 1);
    if (marker === 0xff) {
      at += 1;
      continue;
    }
    if (marker === MARKER.sos || marker < 0xc0) break;
    if (marker === MARKER.app1 && reader.has(at + 4, "Exif\0\0")) facts = { ...exifFacts(new TiffReader(reader, at + 10)), ...facts };
    if (isFrame(marker)) size = { height: reader.u16be(at + 5), width: reader.u16be(at + 7) };
    at += 2 + reader.u16be(at + 2);
  }
  return defined<Summary>({ ...facts, ...size });
}

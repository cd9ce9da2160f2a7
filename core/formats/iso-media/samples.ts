import type { BlockReader } from "../../bytes/block-reader";
import { NAL_CODECS } from "./box-names";
import { type Box, boxesIn, findBox, findBoxes } from "./boxes";

/** One piece of a track: where it stands in the file. Bytes. */
export interface Sample {
  readonly at: number;
  readonly length: number;
}

export interface Track {
  readonly id: number;
  /** The sample entry's name: how the samples are coded. */
  readonly codec: string;
  /** Bytes before each NAL unit that give its length; 0: the samples are no such units. */
  readonly nalLength: number;
  readonly box: Box;
}

const MOST_SAMPLES = 4_000_000;

export function readTracks(reader: BlockReader, moov: Box): Track[] {
  const tracks: Track[] = [];
  for (const box of boxesIn(reader, moov.content, moov.end)) {
    if (box.type !== "trak") continue;
    const header = findBox(reader, box, "tkhd");
    const id = header ? reader.u32be(header.content + (reader.u8(header.content) === 1 ? 20 : 12)) : 0;
    const entries = findBox(reader, box, "stsd");
    const codec = entries && entries.end - entries.content >= 16 ? reader.ascii(entries.content + 12, 4) : "";
    const kind = NAL_CODECS[codec];
    let nalLength = 0;
    if (kind && entries) {
      // The settings stand after the 86 bytes of a picture's sample entry (ISO/IEC 14496-12, 12.1.3).
      for (const each of boxesIn(reader, entries.content + 8 + 86, entries.end))
        if (each.type === kind.box) nalLength = (reader.u8(each.content + kind.lengthAt) & 3) + 1;
    }
    tracks.push({ id, codec, nalLength, box });
  }
  return tracks;
}

/** Where a track's samples stand (ISO/IEC 14496-12, 8.7: sizes, chunks and their offsets). */
export function* trackSamples(reader: BlockReader, { box }: Track): Generator<Sample, void, void> {
  const [sizes, chunks, offsets] = [findBox(reader, box, "stsz"), findBox(reader, box, "stsc"), findBox(reader, box, "stco")];
  const wide = offsets ? null : findBox(reader, box, "co64");
  const table = offsets ?? wide;
  if (!sizes || !chunks || !table) return;
  const same = reader.u32be(sizes.content + 4);
  const count = Math.min(reader.u32be(sizes.content + 8), MOST_SAMPLES);
  const groups = reader.u32be(chunks.content + 4);
  const chunkCount = reader.u32be(table.content + 4);
  let sample = 0;
  for (let chunk = 0, group = 0; chunk < chunkCount && sample < count; chunk += 1) {
    while (group + 1 < groups && reader.u32be(chunks.content + 8 + (group + 1) * 12) <= chunk + 1) group += 1;
    const each = reader.u32be(chunks.content + 8 + group * 12 + 4);
    let at = wide ? reader.u64be(table.content + 8 + chunk * 8) : reader.u32be(table.content + 8 + chunk * 4);
    for (let i = 0; i < each && sample < count; i += 1, sample += 1) {
      const length = same || reader.u32be(sizes.content + 12 + sample * 4);
      yield { at, length };
      at += length;
    }
  }
}

/** The samples of one fragment by track (ISO/IEC 14496-12, 8.8.7 and 8.8.8). */
export function* fragmentSamples(reader: BlockReader, moof: Box): Generator<Sample & { track: number }, void, void> {
  for (const traf of boxesIn(reader, moof.content, moof.end)) {
    if (traf.type !== "traf") continue;
    const header = findBox(reader, traf, "tfhd");
    if (!header) continue;
    const flags = reader.u24be(header.content + 1);
    const track = reader.u32be(header.content + 4);
    let field = header.content + 8;
    const take = (bit: number, bytes: number) => {
      if (!(flags & bit)) return undefined;
      field += bytes;
      return bytes === 8 ? reader.u64be(field - 8) : reader.u32be(field - 4);
    };
    const base = take(1, 8) ?? moof.at;
    take(2, 4);
    take(8, 4);
    const usual = take(16, 4) ?? 0;
    let at = base;
    for (const run of findBoxes(reader, traf.content, traf.end, "trun")) {
      const has = reader.u24be(run.content + 1);
      const count = Math.min(reader.u32be(run.content + 4), MOST_SAMPLES);
      let next = run.content + 8;
      if (has & 1) {
        at = base + (reader.u32be(next) | 0);
        next += 4;
      }
      if (has & 4) next += 4;
      for (let i = 0; i < count; i += 1) {
        if (has & 0x100) next += 4;
        let length = usual;
        if (has & 0x200) {
          length = reader.u32be(next);
          next += 4;
        }
        if (has & 0x400) next += 4;
        if (has & 0x800) next += 4;
        yield { at, length, track };
        at += length;
      }
    }
  }
}

/** Whether a stretch is NAL units behind their lengths from its first to its last byte; the place where it is not, or -1. */
export function brokenUnits(reader: BlockReader, at: number, length: number, lengthBytes: number): number {
  const end = at + length;
  for (let unit = at; unit < end; ) {
    if (unit + lengthBytes + 1 > end) return unit;
    let size = 0;
    for (let i = 0; i < lengthBytes; i += 1) size = size * 256 + reader.u8(unit + i);
    // The first bit of every unit is zero (ITU-T H.264 and H.265, 7.3.1.1 and 7.3.1.2).
    if (size === 0 || unit + lengthBytes + size > end || reader.u8(unit + lengthBytes) & 0x80) return unit;
    unit += lengthBytes + size;
  }
  return -1;
}

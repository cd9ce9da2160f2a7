import { BlockReader } from "../../bytes/block-reader";
import { PastEnd } from "../../bytes/past-end";
import type { Pieces } from "./pieces";

/** Plain samples as the beginning of the file describes them. */
export interface Wave {
  /** Byte of the file with which they begin, and the file's size. */
  readonly dataAt: number;
  readonly size: number;
  readonly channels: number;
  /** Bytes of one sample of one channel. */
  readonly width: number;
}

/** Bytes of the beginning that are looked through, and of a file. */
const MOST_HEAD = 1 << 16;
const MOST_SIZE = 1 << 26;
/** Samples that say something of a cluster. */
export const LEAST_SAMPLES = 32;
/** Ranges of values that are counted. */
const CLASSES = 32;

/** Reads the description of samples (Multimedia Programming Interface, "WAVE"; linear PCM, also by its extended form). @returns null: they are coded, or it is not all there */
export function parseWave(pieces: Pieces): Wave | null {
  const reader = new BlockReader(pieces.source(), 4096);
  try {
    const size = reader.u32(4) + 8;
    if (!reader.has(0, "RIFF") || size > MOST_SIZE) return null;
    let form: Pick<Wave, "channels" | "width"> | null = null;
    for (let at = 12; at < MOST_HEAD; ) {
      const length = reader.u32(at + 4);
      if (reader.has(at, "fmt ") && length >= 16) {
        const [tag, channels, block, bits] = [reader.u16(at + 8), reader.u16(at + 10), reader.u16(at + 20), reader.u16(at + 22)];
        const isPlain = tag === 1 || (tag === 0xfffe && length >= 26 && reader.u16(at + 32) === 1);
        const width = bits / 8;
        if (!isPlain || ![1, 2, 3, 4].includes(width) || channels < 1 || channels > 8 || block !== channels * width) return null;
        form = { channels, width };
      }
      if (reader.has(at, "data")) return form && at + 8 < size ? { ...form, dataAt: at + 8, size } : null;
      at += 8 + length + (length % 2);
    }
  } catch (error) {
    if (!(error instanceof PastEnd)) throw error;
  }
  return null;
}

/** What the sound of one cluster is like. */
export interface Likeness {
  /** How often the highest byte of its samples falls into each of the ranges of values. */
  readonly shares: Float64Array;
  /** How much samples differ from a line through the two before, as a part of how loud they are; binary logarithm. Bytes that are no samples come to about 1.2. */
  readonly roughness: number;
  /** How much they differ from such a line, as a mean. */
  readonly step: number;
  /** It is too quiet to say what it is like. */
  readonly quiet: boolean;
  /** All samples are the same: silence, or fill. */
  readonly silent: boolean;
}

/** Reads samples as numbers of 16 bits, whatever their width. */
export function sampleAt(bytes: Uint8Array, at: number, width: number): number {
  // Samples of one byte have no sign.
  if (width === 1) return ((bytes[at] as number) - 128) * 256;
  const high = at + width - 1;
  return (((bytes[high] as number) << 24) >> 16) | (bytes[high - 1] as number);
}

/** @param from byte with which the first whole sample begins @returns null: it is too short to say */
export function likenessOf(bytes: Uint8Array, from: number, { channels, width }: Wave): Likeness | null {
  const count = Math.floor((bytes.length - from) / width);
  if (count < LEAST_SAMPLES) return null;
  const samples = new Float64Array(count);
  const shares = new Float64Array(CLASSES);
  let sum = 0;
  for (let i = 0; i < count; i += 1) {
    const sample = sampleAt(bytes, from + i * width, width);
    samples[i] = sample;
    shares[(sample + 32_768) >> 11] = (shares[(sample + 32_768) >> 11] as number) + 1 / count;
    sum += sample;
  }
  let [loud, rough, ramp] = [0, 0, 0];
  for (let i = 2 * channels; i < count; i += 1) {
    loud += Math.abs((samples[i] as number) - sum / count);
    ramp += Math.abs((samples[i] as number) - (samples[i - channels] as number));
    rough += Math.abs((samples[i] as number) - 2 * (samples[i - channels] as number) + (samples[i - 2 * channels] as number));
  }
  return {
    shares,
    roughness: Math.log2((rough + count) / (loud + count)),
    step: rough / count,
    quiet: loud < count * QUIET * (width === 1 ? 256 : 16),
    silent: ramp === 0,
  };
}
/** Steps of a coarse sample (8 bits), or sixteenths of them, below which the sound is drowned in its own steps. */
const QUIET = 3;

export const distance = (one: Likeness, other: Likeness) =>
  one.shares.reduce((sum, share, i) => sum + Math.abs(share - (other.shares[i] as number)), 0) / 4 +
  Math.min(1, Math.abs(one.roughness - other.roughness));

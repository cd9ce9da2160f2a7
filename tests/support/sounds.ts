import { seeded } from "../../demo/draw";

export interface SoundOptions {
  readonly seed: number;
  readonly hertz: number;
  readonly channels: 1 | 2;
  readonly bits: 8 | 16 | 24;
  readonly seconds: number;
  /** Notes that die away, with pauses between; a voice that rises and falls; or tones that go on. */
  readonly kind: "notes" | "voice" | "tones";
}

/** A sound as plain samples (Multimedia Programming Interface, "WAVE": a description of 16 bytes, then the samples, lowest byte first). */
export function soundOf({ seed, hertz, channels, bits, seconds, kind }: SoundOptions): Buffer {
  const random = seeded(seed);
  const count = Math.floor(hertz * seconds);
  const width = bits / 8;
  const data = Buffer.alloc(count * channels * width);
  const pitch = 110 * 2 ** (random() * 3);
  const loud = 0.2 + random() * 0.5;
  let [drift, at, noise] = [0, 0, 0];
  for (let i = 0; i < count; i += 1) {
    const t = i / hertz;
    const since = t % 0.5;
    const steps = Math.floor(t / 0.5);
    let value = 0;
    // Every fifth note is a pause.
    if (kind === "notes") value = steps % 5 === 4 ? 0 : Math.sin(2 * Math.PI * pitch * (1 + (steps % 4) / 4) * t) * Math.exp(-4 * since);
    else if (kind === "tones") value = (Math.sin(2 * Math.PI * pitch * t) + Math.sin(2 * Math.PI * pitch * 1.5 * t + drift)) / 2;
    else {
      noise = 0.9 * noise + 0.2 * (random() - 0.5);
      value = (Math.sin(2 * Math.PI * (pitch + 30 * Math.sin(3 * t)) * t) + noise) * (0.55 + 0.45 * Math.sin(2 * Math.PI * 1.7 * t));
    }
    drift += 0.0003;
    for (let channel = 0; channel < channels; channel += 1) {
      const sample = Math.max(
        -1,
        Math.min(1, loud * value * (channel === 0 ? 1 : 0.7) + (kind === "notes" ? 0 : 0.002 * (random() - 0.5))),
      );
      if (bits === 8) data[at] = Math.round(128 + 127 * sample);
      else data.writeIntLE(Math.round(sample * (2 ** (bits - 1) - 1)), at, width);
      at += width;
    }
  }
  const head = Buffer.alloc(44);
  head.write("RIFF", 0, "latin1");
  head.writeUInt32LE(36 + data.length, 4);
  head.write("WAVEfmt ", 8, "latin1");
  head.writeUInt32LE(16, 16);
  head.writeUInt16LE(1, 20);
  head.writeUInt16LE(channels, 22);
  head.writeUInt32LE(hertz, 24);
  head.writeUInt32LE(hertz * channels * width, 28);
  head.writeUInt16LE(channels * width, 32);
  head.writeUInt16LE(bits, 34);
  head.write("data", 36, "latin1");
  head.writeUInt32LE(data.length, 40);
  return Buffer.concat([head, data]);
}

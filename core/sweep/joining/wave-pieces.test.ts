import { describe, expect, it } from "vitest";
import { diskOfPieces, randomBytesOf, sweptFinds } from "../../../tests/support/pieces-disk";
import { type SoundOptions, soundOf } from "../../../tests/support/sounds";
import { isProven } from "../find";

const KINDS = ["notes", "voice", "tones"] as const;
const FORMS: readonly Pick<SoundOptions, "hertz" | "channels" | "bits">[] = [
  { hertz: 8_000, channels: 1, bits: 8 },
  { hertz: 16_000, channels: 1, bits: 16 },
  { hertz: 44_100, channels: 2, bits: 16 },
  { hertz: 22_050, channels: 1, bits: 24 },
];
const CLUSTERS = [512, 4096, 16_384];

function* sounds(): Generator<{ sound: Buffer; cluster: number; seed: number }> {
  let seed = 40;
  for (const kind of KINDS)
    for (const form of FORMS)
      for (const cluster of CLUSTERS) {
        seed += 1;
        const second = form.hertz * form.channels * (form.bits / 8);
        yield { sound: soundOf({ seed, kind, ...form, seconds: Math.max(2, (6 * cluster) / second) }), cluster, seed };
      }
}
const segmentsAt = (disk: Buffer, cluster: number, at: number | undefined) => sweptFinds(disk, cluster).find((find) => find.at === at);

describe("a sound in two pieces", () => {
  it("is put together by what it sounds like, mostly, and never called whole", { tags: "long" }, () => {
    const tally = { all: 0, exact: 0, elsewhere: 0 };
    for (const { sound, cluster, seed } of sounds())
      for (const around of ["noise", "zeros", "text"] as const) {
        const made = diskOfPieces(sound, { seed, cluster, pieces: 2, around, shuffled: seed % 4 === 0 });
        if (!made) continue;
        const found = segmentsAt(made.disk, cluster, made.segments[0]?.at);
        tally.all += 1;
        if (JSON.stringify(found?.segments) === JSON.stringify(made.segments)) tally.exact += 1;
        else if ((found?.segments.length ?? 0) > 1) tally.elsewhere += 1;
        expect(found && isProven(found)).toBe(false);
      }
    // 79 of 108, when this was written.
    expect(tally.exact / tally.all).toBeGreaterThan(0.65);
    expect(tally.elsewhere / tally.all).toBeLessThan(0.05);
  });

  it("that is in one piece stays in one, whatever lies around it, with pauses in it and another sound beside", { tags: "long" }, () => {
    for (const { sound, cluster, seed } of sounds()) {
      const other = soundOf({ seed: seed + 1000, kind: "voice", hertz: 16_000, channels: 1, bits: 16, seconds: 3 });
      const padded = (bytes: Buffer) => Buffer.concat([bytes, Buffer.alloc((cluster - (bytes.length % cluster)) % cluster)]);
      const parts = [
        randomBytesOf(seed, 4 * cluster),
        padded(other),
        padded(sound),
        Buffer.alloc(20 * cluster),
        padded(other.subarray(44)),
      ];
      const at = 4 * cluster + padded(other).length;
      const found = segmentsAt(Buffer.concat(parts), cluster, at);
      expect(found?.segments).toEqual([{ at, length: sound.length }]);
    }
  });

  it("takes nothing from another sound that stands by itself, however like it is", () => {
    const form = { kind: "tones", hertz: 16_000, channels: 1, bits: 16 } as const;
    const [cut, other] = [soundOf({ seed: 8, ...form, seconds: 2.5 }), soundOf({ seed: 8, ...form, seconds: 1 })];
    const cluster = 4096;
    const padded = (bytes: Buffer) => Buffer.concat([bytes, Buffer.alloc((cluster - (bytes.length % cluster)) % cluster)]);
    // Two clusters of the rest stand before another sound, which is as long as what is overwritten of the first.
    for (const more of [2, 3, 4]) {
      const kept = padded(cut).length - padded(other).length - more * cluster;
      const rest = cut.subarray(kept, kept + more * cluster);
      const disk = Buffer.concat([
        Buffer.alloc(cluster),
        cut.subarray(0, kept),
        randomBytesOf(more, 20 * cluster),
        rest,
        padded(other),
        randomBytesOf(more + 1, 8 * cluster),
      ]);
      const at = cluster + kept + 20 * cluster + rest.length;
      expect(segmentsAt(disk, cluster, at)?.segments).toEqual([{ at, length: other.length }]);
    }
  });

  it("does not hang on a disk that sounds alike everywhere", { tags: "long" }, () => {
    const long = soundOf({ seed: 5, kind: "tones", hertz: 44_100, channels: 1, bits: 16, seconds: 180 });
    const head = Buffer.from(long.subarray(0, 4096));
    head.writeUInt32LE(12_000_000, 4);
    head.writeUInt32LE(11_999_964, 40);
    // Two clusters of it, four of noise, and then only sound.
    const disk = Buffer.concat([Buffer.alloc(4096), head, randomBytesOf(1, 2048), long.subarray(44, 44 + (long.length >> 9) * 512)]);
    const find = segmentsAt(disk, 512, 4096);
    expect(find && isProven(find)).toBe(false);
  });

  it("is let be where its beginning is silent, coded, or cut short, and never hangs", () => {
    const sound = soundOf({ seed: 3, kind: "tones", hertz: 16_000, channels: 1, bits: 16, seconds: 2 });
    const silent = Buffer.concat([sound.subarray(0, 44), Buffer.alloc(20_000), sound.subarray(20_044)]);
    const coded = Buffer.from(sound);
    coded.writeUInt16LE(17, 20);
    const forms = Array.from({ length: 40 }, (_, i) => {
      const hurt = Buffer.from(sound);
      randomBytesOf(i, 4).copy(hurt, 4 + i);
      return hurt;
    });
    for (const bytes of [silent, coded, ...forms]) {
      const disk = Buffer.concat([
        Buffer.alloc(4096),
        bytes.subarray(0, 8192),
        randomBytesOf(9, 40_960),
        bytes.subarray(8192),
        Buffer.alloc(8192),
      ]);
      for (const find of sweptFinds(disk, 4096)) expect(isProven(find)).toBe(false);
    }
  });
});

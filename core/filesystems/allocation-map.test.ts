import fc from "fast-check";
import { describe, expect, it } from "vitest";
import { MemorySource } from "../bytes/byte-source";
import { AllocationMap } from "./allocation-map";
import { usageProfile } from "./usage-profile";

/** A map and the plain list of what it says. */
const map = fc.uint8Array({ minLength: 1, maxLength: 400 }).chain((bytes) =>
  fc.integer({ min: 1, max: bytes.length * 8 }).map((clusters) => ({
    map: new AllocationMap(new MemorySource(bytes), clusters),
    used: Array.from({ length: clusters }, (_, index) => (((bytes[index >> 3] as number) >> (index & 7)) & 1) === 1),
  })),
);

describe("the map of used clusters", () => {
  it("says of each cluster what its bit says, and calls what is outside used", () => {
    fc.assert(
      fc.property(map, ({ map: clusters, used }) => {
        used.forEach((each, index) => {
          expect(clusters.isUsed(index)).toBe(each);
        });
        for (const outside of [-1, used.length, used.length + 100]) expect(clusters.isUsed(outside)).toBe(true);
      }),
      { numRuns: 60 },
    );
  });

  it("gives the used ranges of any stretch, as one by one would", () => {
    fc.assert(
      fc.property(map, fc.nat(500), fc.nat(500), ({ map: clusters, used }, start, count) => {
        const expected = Array.from({ length: count }, (_, index) => start + index).filter((cluster) => used[cluster] ?? true);
        const given = clusters
          .usedWithin(start, count)
          .flatMap(({ start: from, end }) => Array.from({ length: end - from }, (_, index) => from + index));
        expect(given).toEqual(expected);
      }),
    );
  });

  it("sums up to a profile that counts every used cluster once", () => {
    fc.assert(
      fc.property(map, ({ map: clusters, used }) => {
        const profile = usageProfile(clusters);
        expect(profile.used).toBe(used.filter(Boolean).length);
        expect(profile.shares.length).toBe(Math.min(2048, used.length));
        expect([...profile.shares].some((share) => share > 0)).toBe(profile.used > 0);
      }),
    );
  });

  /** Blocks of 64 KiB of the map, each all free, all used, or mixed; the last one ends early. */
  const kinds = fc.array(fc.constantFrom("free", "used", "mixed"), { minLength: 1, maxLength: 4 });

  it("gives the used ranges of a large map, whatever its blocks are, as one by one would", { tags: "long" }, () => {
    fc.assert(
      fc.property(kinds, fc.boolean(), fc.nat(), fc.nat(), fc.integer({ min: 0, max: 70_000 }), (blocks, highestFirst, a, b, cut) => {
        const bytes = new Uint8Array(blocks.length * 65_536);
        for (const [index, kind] of blocks.entries()) {
          bytes.fill(kind === "used" ? 0xff : 0, index * 65_536, (index + 1) * 65_536);
          if (kind === "mixed") for (let at = 17; at < 65_536; at += 9973) bytes[index * 65_536 + at] = (at * 31) & 0xff;
        }
        const clusters = Math.max(1, bytes.length * 8 - cut);
        const large = new AllocationMap(new MemorySource(bytes), clusters, highestFirst);
        const bit = (cluster: number) => ((bytes[cluster >>> 3] as number) >>> (highestFirst ? 7 - (cluster & 7) : cluster & 7)) & 1;
        const [start, end] = [a % (clusters + 10), b % (clusters + 10)].sort((one, other) => one - other) as [number, number];
        const expected: { start: number; end: number }[] = [];
        for (let cluster = start; cluster < end; cluster += 1) {
          if (cluster < clusters && bit(cluster) === 0) continue;
          const last = expected.at(-1);
          if (last?.end === cluster) last.end = cluster + 1;
          else expected.push({ start: cluster, end: cluster + 1 });
        }
        expect(large.usedWithin(start, end - start)).toEqual(expected);
        // What stands before the first cluster is in use, and with it what follows on.
        const [before] = large.usedWithin(-5, 10);
        expect([before?.start, (before?.end ?? 0) > 0]).toEqual([-5, bit(0) === 1]);
      }),
      { numRuns: 25 },
    );
  });

  it("is read once, however many files claim all of a volume that was never written", () => {
    let reads = 0;
    const read = (_: number, into: Uint8Array) => {
      into.fill(0);
      reads += 1;
    };
    const never = { size: 2 ** 31, read, unreadable: () => [] };
    // 2^34 clusters of 4 KiB are 64 TiB.
    const clusters = new AllocationMap(never, 2 ** 34);
    for (let file = 0; file < 2000; file += 1) expect(clusters.usedWithin(file * 1000, 2 ** 33)).toEqual([]);
    expect(clusters.usedWithin(2 ** 33, 2 ** 40)).toEqual([{ start: 2 ** 34, end: 2 ** 33 + 2 ** 40 }]);
    expect(clusters.isUsed(2 ** 33)).toBe(false);
    expect(reads).toBeLessThanOrEqual(2 ** 34 / (65_536 * 8) + 2);
  });
});

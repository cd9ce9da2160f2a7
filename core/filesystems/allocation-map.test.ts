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
});

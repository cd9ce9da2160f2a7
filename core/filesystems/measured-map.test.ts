import fc from "fast-check";
import { expect, it } from "vitest";
import { MemorySource } from "../bytes/byte-source";
import { AllocationMap } from "./allocation-map";
import { MeasuredMap } from "./measured-map";

const SECTOR = 512;

it("has a cluster in use where any sector of it is, and all that stands outside the volume's own clusters", () => {
  const bytes = fc.uint8Array({ minLength: 1, maxLength: 40 });
  const sizes = fc.constantFrom(512, 1024, 4096, 8192);
  const places = fc.nat(40).map((sectors) => sectors * SECTOR);
  fc.assert(
    fc.property(bytes, sizes, places, sizes, places, fc.nat(60), fc.nat(60), (bits, mappedSize, mappedAt, ownSize, ownAt, start, count) => {
      const map = new AllocationMap(new MemorySource(bits), bits.length * 8);
      const measured = new MeasuredMap(1000, { clusterSize: ownSize, at: ownAt }, map, { clusterSize: mappedSize, at: mappedAt });
      /** Sector by sector, as the definition has it. */
      const isUsed = (cluster: number) => {
        for (let at = ownAt + cluster * ownSize; at < ownAt + (cluster + 1) * ownSize; at += SECTOR)
          if (map.isUsed(Math.floor((at - mappedAt) / mappedSize))) return true;
        return false;
      };
      const clusters = Array.from({ length: count }, (_, index) => start + index);
      expect(clusters.map((cluster) => measured.isUsed(cluster))).toEqual(clusters.map(isUsed));
      const given = measured
        .usedWithin(start, count)
        .flatMap(({ start: from, end }) => Array.from({ length: end - from }, (_, i) => from + i));
      expect(given).toEqual(clusters.filter(isUsed));
    }),
    { numRuns: 300 },
  );
});

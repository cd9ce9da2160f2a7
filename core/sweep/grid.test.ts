import fc from "fast-check";
import { describe, expect, it } from "vitest";
import { gridOf } from "./grid";

/** Beginnings of files on clusters of a size, some of them (embedded ones, leftovers) anywhere. */
const starts = (cluster: number, origin: number, on: readonly number[], anywhere: readonly number[]) => [
  ...on.map((index) => origin + index * cluster),
  ...anywhere.map((index) => index * 512),
];

describe("where clusters begin", () => {
  it("is read off the beginnings of files, whatever the size, the origin, and up to one in ten that lies elsewhere", () => {
    let [right, all, larger] = [0, 0, 0];
    fc.assert(
      fc.property(
        fc.integer({ min: 10, max: 16 }),
        fc.nat({ max: 4000 }),
        fc.uniqueArray(fc.nat({ max: 20_000 }), { minLength: 24, maxLength: 60 }),
        fc.uniqueArray(fc.nat({ max: 1_000_000 }), { maxLength: 2 }),
        (shift, at, on, anywhere) => {
          const cluster = 2 ** shift;
          const origin = at * 512;
          const grid = gridOf(starts(cluster, origin, on, anywhere));
          all += 1;
          if (grid && grid.cluster > cluster) larger += 1;
          if (grid?.cluster === cluster && (origin - grid.origin) % cluster === 0) right += 1;
        },
      ),
      { numRuns: 400, seed: 18 },
    );
    expect(right / all).toBeGreaterThan(0.97);
    // Too large a grid would leave out places where files are cut.
    expect(larger / all).toBeLessThan(0.03);
  });

  it("is not read off a few beginnings, and is that of sectors when many share nothing more", () => {
    expect(gridOf([])).toBeNull();
    expect(gridOf([8192, 16_384, 40_960])).toBeNull();
    const sectors = Array.from({ length: 40 }, (_, i) => 512 * (i * i + i));
    expect(gridOf(sectors.map((at, i) => at + (i % 2) * 512))).toEqual({ cluster: 512, origin: 0 });
  });

  it("leaves out what begins apart from sectors", () => {
    const on = Array.from({ length: 24 }, (_, i) => 4096 * (3 * i + 1));
    expect(gridOf([...on, ...on.map((at) => at + 77)])).toMatchObject({ cluster: 4096 });
  });
});

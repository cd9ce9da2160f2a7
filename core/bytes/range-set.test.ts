import { describe, expect, it } from "vitest";
import { seeded } from "../../demo/draw";
import { RangeSet, without } from "./range-set";

describe("gaps near a place", () => {
  it("are those of all gaps, the nearest on either side", () => {
    const random = seeded(5);
    const next = (below: number) => Math.floor(random() * below);
    for (let round = 0; round < 300; round += 1) {
      const set = new RangeSet();
      for (let i = next(12); i > 0; i -= 1) {
        const start = next(90);
        set.add(start, start + 1 + next(9));
      }
      const within = { start: next(20), end: 60 + next(60) };
      const [place, least] = [next(120), next(6)];
      const all = without(within, set.ranges).filter(({ start, end }) => end - start >= Math.max(1, least));
      expect(set.gapsNear(place, within, least, 100)).toEqual(all);
      const before = all.filter(({ start }) => start < place);
      const some = set.gapsNear(place, within, least, 2);
      expect(all).toEqual(expect.arrayContaining(some));
      expect(some.length).toBeGreaterThanOrEqual(Math.min(2, all.length, Math.max(before.length, all.length - before.length)) > 0 ? 1 : 0);
    }
  });

  it("are not looked at without end", () => {
    const set = RangeSet.from(Array.from({ length: 1000 }, (_, i) => ({ start: 10 * i, end: 10 * i + 9 })));
    expect(set.gapsNear(5000, { start: 0, end: 20_000 }, 100, 5, 100)).toEqual([]);
    expect(set.gapsNear(5000, { start: 0, end: 20_000 }, 100, 5)).toEqual([{ start: 9999, end: 20_000 }]);
  });
});

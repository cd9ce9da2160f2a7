import { describe, expect, it } from "vitest";
import { density, momentStep, nearestMoment } from "./moments";

const moments = [10, 20, 30, 40].map((at) => ({ at, count: at / 10 }));

describe("stepping in time", () => {
  it("goes from now to the newest state, on to older ones, and back to now", () => {
    expect(momentStep(moments, null, "before", null)).toBe(40);
    expect(momentStep(moments, 40, "before", null)).toBe(30);
    expect(momentStep(moments, 25, "before", null)).toBe(20);
    expect(momentStep(moments, 10, "before", null)).toBeUndefined();
    expect(momentStep(moments, 30, "after", null)).toBe(40);
    expect(momentStep(moments, 40, "after", null)).toBeNull();
    expect(momentStep(moments, null, "after", null)).toBeUndefined();
  });

  it("finds the last state before the loss, where one is known", () => {
    expect(momentStep(moments, null, "before-loss", 30)).toBe(20);
    expect(momentStep(moments, 10, "before-loss", null)).toBeUndefined();
    expect(momentStep(moments, 10, "before-loss", 5)).toBeUndefined();
    expect(momentStep([], null, "before", null)).toBeUndefined();
  });
});

describe("states on an axis", () => {
  const place = (at: number) => at * 2;
  it("are counted in columns, those outside left out", () => {
    expect([...density(moments, place, 70, 4)]).toEqual([
      [20, 1],
      [40, 2],
      [60, 3],
    ]);
  });
  it("are found near a place", () => {
    expect(nearestMoment(moments, place, 43, 5)).toBe(20);
    expect(nearestMoment(moments, place, 50, 5)).toBeNull();
  });
});

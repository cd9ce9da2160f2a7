import { describe, expect, it } from "vitest";
import { sweptBy } from "./read-stretches";

const volume = { offset: 1000, length: 10_000 };

describe("what a pass has looked through", () => {
  it("is its stretches from the first on, as far as it has come", () => {
    const reach = [
      { start: 2000, end: 3000 },
      { start: 5000, end: 8000 },
    ];
    expect(sweptBy({ reach, options: {}, done: 0, total: 4000 }, volume)).toEqual([]);
    expect(sweptBy({ reach, options: {}, done: 500, total: 4000 }, volume)).toEqual([{ start: 2000, end: 2500 }]);
    expect(sweptBy({ reach, options: {}, done: 2000, total: 4000 }, volume)).toEqual([
      { start: 2000, end: 3000 },
      { start: 5000, end: 6000 },
    ]);
    expect(sweptBy({ reach, options: {}, done: 4000, total: 4000 }, volume)).toEqual(reach);
  });

  it("is the part of the volume it was asked for where its stretches are not known", () => {
    const options = { from: 50, to: 75 };
    expect(sweptBy({ reach: null, options, done: 1, total: 2 }, volume)).toEqual([{ start: 6000, end: 7250 }]);
    expect(sweptBy({ reach: null, options: {}, done: 0, total: 0 }, volume)).toEqual([]);
  });
});

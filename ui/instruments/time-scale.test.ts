import fc from "fast-check";
import { describe, expect, it } from "vitest";
import { fittingSpan, placeOf, ticks, zoomedSpan } from "./time-scale";

const DAY = 86_400_000;

describe("the time axis", () => {
  it("fits the items and the loss, and leaves wrong clocks outside", () => {
    const loss = Date.UTC(2026, 2, 12);
    const span = fittingSpan(
      [
        { value: "1980", count: 1 },
        { value: "2024", count: 400 },
        { value: "2026", count: 90 },
        { value: "2099", count: 1 },
        { value: "none", count: 7 },
      ],
      loss,
    );
    expect(new Date(span.start).getUTCFullYear()).toBe(2024);
    expect(span.end).toBeGreaterThan(loss);
    expect(span.end).toBeLessThan(Date.UTC(2028, 0, 1));
  });

  it("has some span even when nothing is known", () => {
    const span = fittingSpan([], null);
    expect(span.end).toBeGreaterThan(span.start);
  });

  it("keeps the moment under the pointer where it is while zooming", () => {
    fc.assert(
      fc.property(
        fc.integer({ min: 0, max: 4e12 }),
        fc.double({ min: 0.2, max: 5, noNaN: true }),
        fc.double({ min: 0, max: 1, noNaN: true }),
        (start, factor, share) => {
          const span = { start, end: start + 400 * DAY };
          const around = start + share * 400 * DAY;
          const before = placeOf(around, span, 1000);
          expect(placeOf(around, zoomedSpan(span, factor, around), 1000)).toBeCloseTo(before, 3);
        },
      ),
    );
  });

  it("is divided into steps that can be read, at any length", () => {
    fc.assert(
      fc.property(
        fc.integer({ min: 0, max: 2e12 }),
        fc.integer({ min: 1, max: 20_000 }),
        fc.integer({ min: 60, max: 2000 }),
        (start, days, width) => {
          const span = { start, end: start + days * DAY };
          const found = ticks(span, width);
          expect(found.length).toBeLessThanOrEqual(width / 44 + 2);
          for (const { at } of found) expect(at >= span.start && at < span.end).toBe(true);
        },
      ),
    );
  });
});

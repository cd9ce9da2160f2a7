import fc from "fast-check";
import { expect, it } from "vitest";
import { isoText } from "./iso-text";

it("a moment is written as the platform writes it, before and after 1970, in any order", () => {
  const most = 8_640_000_000_000_000;
  fc.assert(
    fc.property(
      fc.array(fc.oneof(fc.integer({ min: -most, max: most }), fc.integer({ min: 0, max: 5000 })), { maxLength: 50 }),
      (times) => {
        for (const time of times) expect(isoText(time)).toBe(new Date(time).toISOString());
      },
    ),
  );
  for (const time of [0, -1, -999, -1000, 999, 0.7, -0.5, 1_772_000_000_123]) expect(isoText(time)).toBe(new Date(time).toISOString());
  expect(isoText(null)).toBeNull();
  expect(() => isoText(most + 1000)).toThrow(RangeError);
});

import { describe, expect, it } from "vitest";
import { recogniseTimes, secondsOf, TIME_FORMS } from "./times";

const NOW = Date.UTC(2026, 2, 12) / 1000;
// 2021-05-04T09:30:00Z and a year of days behind it, by the calendar of ECMAScript (ECMA-262, 21.4.1).
const moments = Array.from({ length: 300 }, (_, day) => Date.UTC(2021, 4, 4 + day, 9, 30) / 1000);

describe("a column of times", () => {
  it.each(TIME_FORMS)("in $words is recognised, and read as the moments it was made from", (form) => {
    const values = moments.map((seconds) => (seconds - form.epoch) * form.perSecond);
    const found = recogniseTimes(values, NOW);
    expect(found?.id).toBe(form.id);
    expect(Math.round(secondsOf(values[0] as number, form))).toBe(moments[0]);
  });

  it("is recognised with empty ones among them, and as numbers beyond 2^53", () => {
    expect(recogniseTimes([0, 13_312_797_827_464_473n, 13_316_911_620_000_000n, 0], NOW)?.id).toBe("us-1601");
  });

  // Worked examples: [MS-DTYP] 2.3.3 counts 100 ns from 1601; 2^31 - 1 seconds since 1970 is 2038-01-19 (POSIX.1-2017, 4.16), which is in the future.
  it("is none where its numbers are counters, sizes, or lie in the future", () => {
    expect(recogniseTimes([1, 2, 3, 4, 5], NOW)).toBeNull();
    expect(recogniseTimes([120, 3_400_000, 1_633_000_000, 77], NOW)).toBeNull();
    expect(recogniseTimes([2_147_483_647, 2_147_483_646], NOW)).toBeNull();
    expect(recogniseTimes([1_633_000_000, 1_633_000_000], NOW)).toBeNull();
  });
});

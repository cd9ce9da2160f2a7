import fc from "fast-check";
import { describe, expect, it } from "vitest";
import { DAY, NIGHT } from "../theme/tokens";
import { coverage, MIN_SPAN, moved, zoomed } from "./disk-chart-scale";
import { bytesText, conditionText, countText, durationText, filesText, kindCountText, offsetText, rowStateText } from "./words";

describe("words", () => {
  it("give bytes in binary units with one decimal (IEC 80000-13)", () => {
    expect([0, 1023, 1024, 1536, 2 ** 20, 63.5 * 2 ** 20, 2 ** 40].map(bytesText)).toEqual([
      "0 B",
      "1023 B",
      "1.0 KiB",
      "1.5 KiB",
      "1.0 MiB",
      "63.5 MiB",
      "1.0 TiB",
    ]);
  });

  it("group counts and offsets so that they can be read", () => {
    expect(countText(1_234_567)).toBe("1\u2009234\u2009567");
    expect(countText(42)).toBe("42");
    expect([0, 1, 2000].map(filesText)).toEqual(["0 files", "1 file", "2\u2009000 files"]);
    expect([0, 0x200000, 0x1a4c200000].map(offsetText)).toEqual(["0x0000_0000", "0x0020_0000", "0x1A_4C20_0000"]);
  });

  it("count files of a kind as a person would", () => {
    const counts: [string, number][] = [
      ["pictures", 1],
      ["pictures", 2],
      ["archives", 1],
      ["audio", 1],
      ["application-data", 3],
      ["mail", 0],
    ];
    expect(counts.map(([kind, count]) => kindCountText(kind, count))).toEqual([
      "1 picture",
      "2 pictures",
      "1 archive",
      "1 audio",
      "3 application data",
      "0 mail",
    ]);
  });

  it("never give as many of a unit as make one of the next", () => {
    expect([2 ** 20 - 1, 2 ** 20 - 60, 2 ** 40 - 1].map(bytesText)).toEqual(["1.0 MiB", "1023.9 KiB", "1.0 TiB"]);
    expect([3_569_000, 3_570_000, 7_170_000, 86_399_000].map(durationText)).toEqual(["59 min", "1 h 0 min", "2 h 0 min", "24 h 0 min"]);
    fc.assert(
      fc.property(fc.integer({ min: 0, max: 2 ** 50 }), (value) => {
        const [number, unit] = bytesText(value).split(" ") as [string, string];
        expect(Number(number)).toBeLessThan(1024);
        const exact = value / 1024 ** ["B", "KiB", "MiB", "GiB", "TiB", "PiB"].indexOf(unit);
        expect(Math.abs(exact - Number(number))).toBeLessThanOrEqual(0.0501);
        const minutes = /(\d+) min$/.exec(durationText(value % 10 ** 9))?.[1];
        if (minutes) expect(Number(minutes)).toBeLessThan(60);
      }),
    );
  });

  it("say times and conditions as a person would", () => {
    expect([200, 4_000, 130_000, 3_700_000].map(durationText)).toEqual(["under 1 s", "4 s", "2 min", "1 h 2 min"]);
    expect(conditionText("partial", 0.621)).toBe("62 % left");
    // Something is left, and something is missing: never nought, never a hundred.
    expect([conditionText("partial", 0.0001), conditionText("partial", 0.9999)]).toEqual(["1 % left", "99 % left"]);
    expect([conditionText("whole", 1), conditionText("name-only", 0), conditionText("not-checked", 1)]).toEqual([
      "whole",
      "name only",
      "not checked",
    ]);
  });
});

describe("the scale of the disk chart", () => {
  const size = 10 ** 12;
  const view = fc.record({ start: fc.integer({ min: 0, max: size / 2 }), end: fc.integer({ min: size / 2 + MIN_SPAN, max: size }) });

  it("never leaves the disk, however it is zoomed and moved", () => {
    fc.assert(
      fc.property(
        view,
        fc.double({ min: 0.01, max: 100, noNaN: true }),
        fc.double({ min: -3, max: 3, noNaN: true }),
        (from, factor, share) => {
          for (const next of [zoomed(from, factor, (from.start + from.end) / 2, size), moved(from, share, size)]) {
            expect(next.start).toBeGreaterThanOrEqual(0);
            expect(next.end).toBeLessThanOrEqual(size * (1 + 1e-9));
            expect(next.end - next.start).toBeGreaterThanOrEqual(MIN_SPAN * 0.999);
          }
        },
      ),
    );
  });

  it("shows as much of each column as is covered", () => {
    const stretch = fc.integer({ min: 0, max: 990 }).map((start) => ({ start, end: start + 10 }));
    fc.assert(
      fc.property(fc.uniqueArray(stretch, { maxLength: 20, selector: (each) => Math.floor(each.start / 20) }), (stretches) => {
        const columns = coverage(
          [...stretches].sort((a, b) => a.start - b.start),
          { start: 0, end: 1000 },
          50,
        );
        expect(columns.every((share) => share >= 0 && share <= 1)).toBe(true);
        for (const { start, end } of stretches)
          for (let column = Math.floor(start / 20); column < Math.ceil(end / 20) && column < 50; column += 1)
            expect(columns[column]).toBeGreaterThan(0);
        const covered = new Set(
          stretches.flatMap(({ start, end }) =>
            Array.from({ length: Math.min(1000, end) - start }, (_, index) => Math.floor((start + index) / 20)),
          ),
        );
        expect(columns.reduce((sum, share) => sum + (share > 0 ? 1 : 0), 0)).toBe(covered.size);
      }),
    );
  });
});

describe("colours", () => {
  /** Relative luminance and contrast: WCAG 2.2, definitions of both. */
  const luminance = (hex: string) => {
    const [r, g, b] = [1, 3, 5]
      .map((at) => Number.parseInt(hex.slice(at, at + 2), 16) / 255)
      .map((c) => (c <= 0.04045 ? c / 12.92 : ((c + 0.055) / 1.055) ** 2.4)) as [number, number, number];
    return 0.2126 * r + 0.7152 * g + 0.0722 * b;
  };
  const contrast = (a: string, b: string) => (Math.max(luminance(a), luminance(b)) + 0.05) / (Math.min(luminance(a), luminance(b)) + 0.05);

  it.each([
    ["day", DAY],
    ["night", NIGHT],
  ])("of text on every ground it stands on keep 4.5 : 1, %s", (_name, colours) => {
    for (const ink of [colours.ink, colours.inkSoft, colours.inkFaint, colours.mark])
      for (const ground of [colours.paper, colours.sheet]) expect(contrast(ink, ground), `${ink} on ${ground}`).toBeGreaterThanOrEqual(4.5);
    for (const ink of [colours.ink, colours.inkSoft]) expect(contrast(ink, colours.depth1)).toBeGreaterThanOrEqual(4.5);
    expect(contrast(colours.ink, colours.buff)).toBeGreaterThanOrEqual(4.5);
    expect(contrast(colours.mark, colours.markSoft)).toBeGreaterThanOrEqual(4.5);
  });
});

it("a row says what is to be known before it is believed, and nothing where it counts and stands", () => {
  const row = { state: "live", confidence: "whole", uncommitted: false, former: false } as const;
  expect(rowStateText(row)).toBe("");
  expect(rowStateText({ ...row, confidence: "part" })).toBe("not all of it stands");
  expect(rowStateText({ ...row, confidence: "guess" })).toBe("perhaps of another table");
  expect(rowStateText({ ...row, state: "deleted", confidence: "guess" })).toBe("deleted, partly a guess");
  expect(rowStateText({ ...row, state: "deleted", uncommitted: true })).toBe("written, never committed");
});

import fc from "fast-check";
import { describe, expect, it } from "vitest";
import { MemorySource, readBytes } from "../bytes/byte-source";
import { diskRuns, type Layout, LayoutSource, markForeign } from "../bytes/layout";
import { decodeLayout, encodeLayout } from "../bytes/layout-code";
import { describeGaps, gapsOf, hasGaps, NO_GAPS, OwnBytes } from "./gaps";

const disk = new MemorySource(Uint8Array.from({ length: 4096 }, (_, at) => (at % 251) + 1));
const layout: Layout = {
  size: 1000,
  segments: [
    { kind: "disk", at: 100, length: 400 },
    { kind: "lost", length: 100 },
    { kind: "disk", at: 1000, length: 500 },
  ],
};

describe("the gaps of a content", () => {
  it("are the stretches in clusters of other files and those whose place is not known, in the content's own offsets", () => {
    const marked = markForeign(layout, [
      { start: 0, end: 150 },
      { start: 1200, end: 1300 },
    ]);
    const content = new LayoutSource(disk, marked);
    expect(gapsOf(content)).toEqual({
      unreadable: [{ start: 400, end: 500 }],
      foreign: [
        { start: 0, end: 50 },
        { start: 700, end: 800 },
      ],
    });
    expect(diskRuns(marked)).toEqual(diskRuns(layout));
    expect(decodeLayout(encodeLayout(marked))).toEqual(marked);
    const own = readBytes(new OwnBytes(content), 0, 1000);
    const found = readBytes(content, 0, 1000);
    expect(own.subarray(0, 50).every((byte) => byte === 0)).toBe(true);
    expect(own.subarray(700, 800).every((byte) => byte === 0)).toBe(true);
    expect([...own.subarray(50, 700)]).toEqual([...found.subarray(50, 700)]);
    expect(found[0]).toBe(101);
    expect(describeGaps(gapsOf(content), false)).toBe(
      "100 bytes could not be read and are zeros; 150 bytes belong to other files now and are zeros (at 0 to 49, 400 to 499, 700 to 799).",
    );
    expect(describeGaps(gapsOf(content), true)).toContain("are what stands there today");
  });

  it("of coded content are whole units: one byte of another file spoils what is coded after it", () => {
    const coded: Layout = { size: 65_536, segments: [{ kind: "coded", coding: "lznt1", length: 65_536, from: [{ at: 0, length: 4096 }] }] };
    expect(new LayoutSource(disk, markForeign(coded, [{ start: 4095, end: 4096 }])).foreign()).toEqual([{ start: 0, end: 65_536 }]);
    const kept: Layout = { size: 10, segments: [{ kind: "held", at: 0, length: 10, bytes: new Uint8Array(10) }] };
    expect(hasGaps(gapsOf(new LayoutSource(disk, markForeign(kept, [{ start: 0, end: 4096 }]))))).toBe(false);
    expect(hasGaps(NO_GAPS)).toBe(false);
  });

  it("are never read through, whatever part is asked for", () => {
    const range = fc.tuple(fc.nat(1500), fc.integer({ min: 1, max: 300 })).map(([start, length]) => ({ start, end: start + length }));
    fc.assert(
      fc.property(fc.array(range, { maxLength: 6 }), fc.nat(999), fc.integer({ min: 1, max: 400 }), (ranges, at, length) => {
        const sorted = [...ranges]
          .sort((a, b) => a.start - b.start)
          .filter((each, index, all) => index === 0 || each.start > (all[index - 1]?.end ?? 0));
        const content = new LayoutSource(disk, markForeign(layout, sorted));
        const part = readBytes(new OwnBytes(content), at, Math.min(length, 1000 - at));
        part.forEach((byte, index) => {
          const place = at + index;
          const diskAt = place < 400 ? 100 + place : place < 500 ? -1 : 1000 + place - 500;
          const gone = diskAt < 0 || sorted.some(({ start, end }) => diskAt >= start && diskAt < end);
          expect(byte).toBe(gone ? 0 : (diskAt % 251) + 1);
        });
      }),
    );
  });
});

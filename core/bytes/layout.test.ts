import fc from "fast-check";
import { describe, expect, it } from "vitest";
import { MemorySource, readBytes } from "./byte-source";
import { type Layout, LayoutSource, layoutOf, placedRuns, type Segment } from "./layout";
import { decodeLayout, encodeLayout } from "./layout-code";
import { decodeLznt1 } from "./lznt1";
import { Malformed } from "./malformed";

const disk = Uint8Array.from({ length: 4096 }, (_, i) => (i * 31 + (i >> 8)) & 0xff);

const segment: fc.Arbitrary<Segment> = fc.oneof(
  fc.record({ kind: fc.constant("disk" as const), at: fc.nat(4000), length: fc.integer({ min: 1, max: 90 }) }),
  fc.record({ kind: fc.constant("hole" as const), length: fc.integer({ min: 1, max: 90 }) }),
  fc.record({ kind: fc.constant("lost" as const), length: fc.integer({ min: 1, max: 90 }) }),
  fc.uint8Array({ minLength: 1, maxLength: 60 }).map((bytes) => ({ kind: "held" as const, at: 77, length: bytes.length, bytes })),
);
const layouts = fc.array(segment, { maxLength: 12 }).map((segments) =>
  layoutOf(
    segments,
    segments.reduce((sum, each) => sum + each.length, 0),
  ),
);

/** The content of a layout, put together the plain way. */
function expand(layout: Layout): Uint8Array {
  const content = new Uint8Array(layout.size);
  let at = 0;
  for (const each of layout.segments) {
    if (each.kind === "disk") content.set(disk.subarray(each.at, each.at + each.length), at);
    else if (each.kind === "held") content.set(each.bytes, at);
    at += each.length;
  }
  return content;
}

describe("layouts", () => {
  it("read any part of the content as the plain way does", () => {
    fc.assert(
      fc.property(layouts, fc.nat(1200), fc.nat(200), (layout, at, length) => {
        const wanted = new Uint8Array(length);
        wanted.set(expand(layout).subarray(at, at + length));
        expect(readBytes(new LayoutSource(new MemorySource(disk), layout), at, length)).toEqual(wanted);
      }),
    );
  });

  it("come back from their stored form unchanged", () => {
    fc.assert(
      fc.property(layouts, (layout) => {
        expect(decodeLayout(encodeLayout(layout))).toEqual(layout);
      }),
    );
    const large: Layout = {
      size: 2 ** 40 + 2 ** 20,
      segments: [
        { kind: "disk", at: 2 ** 44, length: 2 ** 40 },
        { kind: "coded", coding: "lznt1", length: 2 ** 20, from: [{ at: 2 ** 43, length: 4096 }] },
      ],
    };
    expect(decodeLayout(encodeLayout(large))).toEqual(large);
  });

  it("refuse stored forms that are none, instead of guessing", () => {
    expect(() => decodeLayout(Uint8Array.from([9, 1]))).toThrow(Malformed);
    expect(() => decodeLayout(Uint8Array.from([1, 0x80]))).toThrow(Malformed);
    expect(() => decodeLayout(Uint8Array.from([1, 5, 99, 5]))).toThrow(Malformed);
  });

  it("count lost and unreadable stretches as such, in the content's offsets", () => {
    const layout = layoutOf(
      [
        { kind: "disk", at: 100, length: 50 },
        { kind: "lost", length: 10 },
        { kind: "disk", at: 0, length: 20 },
      ],
      80,
    );
    const content = new LayoutSource(new MemorySource(disk, [{ start: 5, end: 8 }]), layout);
    expect(content.unreadable(0, 80)).toEqual([
      { start: 50, end: 60 },
      { start: 65, end: 68 },
    ]);
  });

  it("call what is missing at the end lost, not zeros", () => {
    expect(layoutOf([{ kind: "disk", at: 0, length: 10 }], 25).segments).toEqual([
      { kind: "disk", at: 0, length: 10 },
      { kind: "lost", length: 15 },
    ]);
  });
});

describe("the runs a content is placed in", () => {
  it("lead from a byte of the content to the byte of the disk that is read for it, holes or not", () => {
    fc.assert(
      fc.property(layouts, (layout) => {
        const content = expand(layout);
        let placed = 0;
        for (const { at, length, start } of placedRuns(layout, 500)) {
          placed += length;
          // What was held in a record is not what the disk has there.
          const held = layout.segments.some((each) => each.kind === "held" && each.at === at && each.length === length);
          if (!held) expect(content.subarray(start as number, (start as number) + length)).toEqual(disk.subarray(at, at + length));
        }
        expect(placed).toBe(
          layout.segments.reduce((sum, each) => sum + (each.kind === "disk" || each.kind === "held" ? each.length : 0), 0),
        );
      }),
    );
  });

  it("have no place for bytes that are coded, and are no more than asked for", () => {
    const coded: Segment = { kind: "coded", coding: "lznt1", length: 4096, from: [{ at: 512, length: 1024 }] };
    const layout: Layout = { size: 4106, segments: [coded, { kind: "disk", at: 9000, length: 10 }] };
    expect(placedRuns(layout, 10)).toEqual([
      { at: 512, length: 1024, start: null },
      { at: 9000, length: 10, start: 4096 },
    ]);
    expect(placedRuns(layout, 1)).toHaveLength(1);
  });
});

describe("LZNT1", () => {
  it("decodes the example of [MS-XCA] 3.3", () => {
    const coded = Uint8Array.from(
      "38 b0 88 46 23 20 00 20 47 20 41 00 10 a2 47 01 a0 45 20 44 00 08 45 01 50 79 00 c0 45 20 05 24 13 88 05 b4 02 4a 44 ef 03 58 02 8c 09 16 01 48 45 00 be 00 9e 00 04 01 18 90 00"
        .split(" ")
        .map((each) => Number.parseInt(each, 16)),
    );
    const plain =
      "F# F# G A A G F# E D D E F# F# E E F# F# G A A G F# E D D E F# E D D E E F# D E F# G F# D E F# G F# E D E A F# F# G A A G F# E D D E F# E D D\0";
    const { bytes, sound } = decodeLznt1(coded, plain.length);
    expect(sound).toBe(true);
    expect(new TextDecoder().decode(bytes)).toBe(plain);
  });

  it("never fails or reads outside, whatever it is given", () => {
    fc.assert(
      fc.property(fc.uint8Array({ maxLength: 300 }), fc.nat(9000), (coded, size) => {
        expect(decodeLznt1(coded, size).bytes.length).toBe(size);
      }),
    );
  });
});

describe("a layout made when the disk was longer", () => {
  it("counts what lies behind the end as unreadable, byte for byte, coded stretches as a whole", () => {
    fc.assert(
      fc.property(layouts, fc.nat(4096), (layout, end) => {
        const content = new LayoutSource(new MemorySource(disk.subarray(0, end)), layout);
        const wanted = layout.segments.flatMap((each) =>
          Array.from({ length: each.length }, (_, i) => each.kind === "lost" || (each.kind === "disk" && each.at + i >= end)),
        );
        const found = new Array<boolean>(layout.size).fill(false);
        for (const range of content.unreadable(0, content.size)) found.fill(true, range.start, range.end);
        expect(found).toEqual(wanted);
      }),
    );
    const coded: Layout = { size: 8192, segments: [{ kind: "coded", coding: "lznt1", length: 8192, from: [{ at: 4000, length: 200 }] }] };
    expect(new LayoutSource(new MemorySource(disk), coded).unreadable(10, 20)).toEqual([{ start: 10, end: 30 }]);
    const held: Layout = { ...coded, segments: [{ ...(coded.segments[0] as Segment & { kind: "coded" }), held: new Uint8Array(9) }] };
    expect(new LayoutSource(new MemorySource(disk), held).unreadable(10, 20)).toEqual([]);
  });
});

import fc from "fast-check";
import { describe, expect, it } from "vitest";
import { CachedSource, MemorySource, readBytes, WindowSource } from "./byte-source";
import { Cursor } from "./cursor";
import { guidText } from "./guid";
import { PastEnd } from "./past-end";
import { RangeSet } from "./range-set";
import { decodeUtf16le, pathComponent } from "./text";
import { filetimeToMs, zoneReader } from "./times";

describe("FILETIME", () => {
  const of = (value: bigint) => filetimeToMs(Number(value & 0xffffffffn), Number(value >> 32n));

  it("counts 100 ns steps from 1601: 116444736000000000 is the beginning of 1970 ([MS-DTYP] 2.3.3)", () => {
    expect(of(116_444_736_000_000_000n)).toBe(0);
    // The example of the .NET documentation for DateTime.FromFileTimeUtc: 2009-02-13 23:31:30 UTC.
    expect(of(128_790_414_900_000_000n)).toBe(Date.UTC(2009, 1, 13, 23, 31, 30));
  });

  it("agrees with exact arithmetic for every moment from 1970 to 2199, to the millisecond", () => {
    fc.assert(
      fc.property(fc.bigInt({ min: 116_444_736_000_000_000n, max: 188_000_000_000_000_000n }), (value) => {
        expect(of(value)).toBe(Number(value / 10_000n) - 11_644_473_600_000);
      }),
    );
  });

  it("takes unset and impossible times for no time", () => {
    expect(of(0n)).toBeNull();
    expect(of(0xffffffffffffffffn)).toBeNull();
    expect(of(1n)).toBeNull();
  });
});

describe("GUID", () => {
  it("reads the first three fields low byte first (UEFI Specification, appendix A: the EFI system partition's GUID)", () => {
    const bytes = Uint8Array.from([0x28, 0x73, 0x2a, 0xc1, 0x1f, 0xf8, 0xd2, 0x11, 0xba, 0x4b, 0x00, 0xa0, 0xc9, 0x3e, 0xc9, 0x3b]);
    expect(guidText(bytes)).toBe("C12A7328-F81F-11D2-BA4B-00A0C93EC93B");
  });
});

describe("Cursor", () => {
  it("refuses every read outside its bytes", () => {
    const cursor = new Cursor(new Uint8Array(8));
    for (const read of [
      () => cursor.u8(8),
      () => cursor.u16(7),
      () => cursor.u32(5),
      () => cursor.u64(1),
      () => cursor.u32(-1),
      () => cursor.slice(4, 5),
      () => cursor.u8(Number.NaN),
    ]) {
      expect(read).toThrow(PastEnd);
    }
  });

  it("reads 64-bit numbers in both orders", () => {
    const bytes = new Uint8Array(8);
    new DataView(bytes.buffer).setBigUint64(0, 0x0012_3456_789a_bcden, true);
    expect(new Cursor(bytes).u64(0)).toBe(0x0012_3456_789a_bcde);
    expect(new Cursor(bytes.toReversed()).u64be(0)).toBe(0x0012_3456_789a_bcde);
  });
});

describe("RangeSet", () => {
  it("behaves like a set of numbers", () => {
    const range = fc.tuple(fc.nat(60), fc.nat(20)).map(([start, length]) => ({ start, end: start + length }));
    fc.assert(
      fc.property(fc.array(range, { maxLength: 30 }), range, (ranges, asked) => {
        const set = RangeSet.from(ranges);
        const model = new Set<number>();
        for (const { start, end } of ranges) for (let i = start; i < end; i += 1) model.add(i);
        expect(set.total).toBe(model.size);
        expect(set.overlap(asked.start, asked.end)).toBe([...model].filter((i) => i >= asked.start && i < asked.end).length);
        // Disjoint, sorted, and never touching.
        for (const [index, each] of set.ranges.entries()) expect(each.start).toBeGreaterThan(set.ranges[index - 1]?.end ?? -1);
      }),
    );
  });
});

describe("byte sources", () => {
  const bytes = Uint8Array.from({ length: 1000 }, (_, i) => (i * 7) & 0xff);

  it("give zeros past the end, through windows and caches alike", () => {
    const plain = new MemorySource(bytes);
    const cached = new CachedSource(plain, 64, 3);
    const window = new WindowSource(cached, 100, 50);
    fc.assert(
      fc.property(fc.integer({ min: 0, max: 1100 }), fc.nat(300), (at, length) => {
        const wanted = new Uint8Array(length);
        wanted.set(bytes.subarray(at, at + length));
        expect(readBytes(cached, at, length)).toEqual(wanted);
        const inWindow = new Uint8Array(length);
        inWindow.set(bytes.subarray(100 + Math.min(at, 50), 100 + Math.min(50, at + length)));
        expect(readBytes(window, at, length)).toEqual(inWindow);
      }),
    );
  });

  it("read unreadable ranges as zeros and know them, shifted into a window", () => {
    const source = new MemorySource(bytes, [{ start: 120, end: 130 }]);
    expect([...readBytes(source, 118, 4)]).toEqual([bytes[118], bytes[119], 0, 0]);
    expect(new WindowSource(source, 100, 50).unreadable(0, 50)).toEqual([{ start: 20, end: 30 }]);
    expect(new WindowSource(source, 100, 25).unreadable(0, 50)).toEqual([{ start: 20, end: 25 }]);
  });
});

describe("text", () => {
  it("decodes UTF-16LE as the platform's decoder does, lone surrogates included", () => {
    fc.assert(
      fc.property(fc.uint8Array({ maxLength: 80 }), (raw) => {
        const even = raw.subarray(0, raw.length & ~1);
        if (even[0] === 0xff && even[1] === 0xfe) return;
        expect(decodeUtf16le(even)).toBe(new TextDecoder("utf-16le").decode(even));
      }),
    );
  });

  it("keeps a name from breaking out of its path", () => {
    expect(pathComponent("a/b\0c")).toBe("a\uFFFDb\uFFFDc");
  });
});

describe("local times of a zone", () => {
  it.each([
    // The rules of these zones are published in the IANA time zone database; the offsets are those of its 2025 edition.
    ["Europe/Berlin", "2026-01-15T12:00:00", "2026-01-15T11:00:00Z"],
    ["Europe/Berlin", "2026-07-15T12:00:00", "2026-07-15T10:00:00Z"],
    ["Europe/Berlin", "2026-03-29T01:59:00", "2026-03-29T00:59:00Z"],
    ["Europe/Berlin", "2026-03-29T03:01:00", "2026-03-29T01:01:00Z"],
    ["America/New_York", "2026-07-15T23:30:00", "2026-07-16T03:30:00Z"],
    ["Asia/Kolkata", "2026-07-15T12:00:00", "2026-07-15T06:30:00Z"],
    ["UTC", "2026-07-15T12:00:00", "2026-07-15T12:00:00Z"],
  ])("%s: %s is %s", (zone, local, utc) => {
    expect(new Date(zoneReader(zone)(Date.parse(`${local}Z`))).toISOString()).toBe(new Date(utc).toISOString());
  });
});

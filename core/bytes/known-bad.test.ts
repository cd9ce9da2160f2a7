import fc from "fast-check";
import { describe, expect, it } from "vitest";
import { type ByteSource, MemorySource, readBytes } from "./byte-source";
import { KnownBadSource } from "./known-bad";
import type { Range } from "./range-set";

const SIZE = 4096;
const bytes = Uint8Array.from({ length: SIZE }, (_, at) => (at % 250) + 1);

/** A source that notes what is asked of it. */
class Watched implements ByteSource {
  readonly size = SIZE;
  readonly asked: Range[] = [];
  readonly #source = new MemorySource(bytes, [{ start: 4000, end: 4050 }]);
  read(at: number, into: Uint8Array): void {
    this.asked.push({ start: at, end: at + into.length });
    this.#source.read(at, into);
  }
  unreadable(at: number, length: number): Range[] {
    return this.#source.unreadable(at, length);
  }
}

describe("stretches that are known to be unreadable", () => {
  const range = fc
    .tuple(fc.nat(SIZE - 2), fc.integer({ min: 1, max: 600 }))
    .map(([start, length]) => ({ start, end: Math.min(SIZE, start + length) }));

  it("come as zeros and are never asked for again; everything else comes as it is", { tags: "long" }, () => {
    fc.assert(
      fc.property(fc.array(range, { maxLength: 8 }), fc.nat(SIZE - 1), fc.integer({ min: 1, max: 2000 }), (bad, at, length) => {
        const watched = new Watched();
        const source = new KnownBadSource(watched, bad.slice(0, 4));
        for (const each of bad.slice(4)) source.add(each);
        const isBad = (place: number) => bad.some(({ start, end }) => place >= start && place < end);
        const part = readBytes(source, at, Math.min(length, SIZE - at));
        for (const [index, byte] of part.entries())
          expect(byte).toBe(isBad(at + index) || (at + index >= 4000 && at + index < 4050) ? 0 : bytes[at + index]);
        for (const { start, end } of watched.asked) for (let place = start; place < end; place += 1) expect(isBad(place)).toBe(false);
      }),
    );
  });

  it("are reported with those the drive refuses now", () => {
    const source = new KnownBadSource(new Watched(), [{ start: 3990, end: 4010 }]);
    expect(source.unreadable(0, SIZE)).toEqual([{ start: 3990, end: 4050 }]);
    expect(source.unreadable(4005, 10)).toEqual([{ start: 4005, end: 4015 }]);
  });
});

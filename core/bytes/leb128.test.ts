import { describe, expect, it } from "vitest";
import { decodeAscending, encodeAscending, NumberReader, pushNumber } from "./leb128";
import { Malformed } from "./malformed";

describe("numbers of 7 bits a byte", () => {
  it.each([
    // DWARF 4, figure 22: "Examples of unsigned LEB128 encodings".
    [2, [0x02]],
    [127, [0x7f]],
    [128, [0x80, 0x01]],
    [129, [0x81, 0x01]],
    [12_857, [0xb9, 0x64]],
    [Number.MAX_SAFE_INTEGER, [0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0x0f]],
  ])("%d is written and read as published", (value, bytes) => {
    const out: number[] = [];
    pushNumber(out, value);
    expect(out).toEqual(bytes);
    expect(new NumberReader(Uint8Array.from(bytes)).next()).toBe(value);
  });

  it("that break off are refused", () => {
    expect(() => new NumberReader(Uint8Array.of(0x80, 0x80)).next()).toThrow(Malformed);
    expect(() => [...decodeAscending(Uint8Array.of(1, 0xff), 512)]).toThrow("break off");
  });

  it("ascending ones come back, and take a byte each where they stand close together", () => {
    const places = [0, 1024, 2048, 3072, 40 * 1024 ** 4, 40 * 1024 ** 4 + 512];
    const coded = encodeAscending(places, 512);
    expect([...decodeAscending(coded, 512)]).toEqual(places);
    expect(
      encodeAscending(
        Array.from({ length: 1000 }, (_, i) => i * 1024),
        512,
      ).length,
    ).toBe(1000);
  });
});

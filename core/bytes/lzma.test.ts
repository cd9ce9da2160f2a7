import { describe, expect, it } from "vitest";
import { threadTime } from "../../tests/support/thread-time";
import { BlockReader } from "./block-reader";
import { MemorySource } from "./byte-source";
import { InflateError } from "./inflate";
import { LzmaDecoder } from "./lzma";
import { unpackLzma2 } from "./lzma2";

/** A chunk of LZMA2 that begins anew with these properties and holds one byte 0 (.xz file format 1.1.0, 5.3.1). */
const chunk = (properties: number) => Buffer.from([0xe0, 0, 0, 0, 7, properties, 0, 0, 0, 0, 0, 0, 0, 0]);
const propertiesOf = (lc: number, lp: number, pb: number) => lc + 9 * lp + 45 * pb;
const readerOf = (...parts: readonly Uint8Array[]) => new BlockReader(new MemorySource(Buffer.concat(parts)));

function unpack(...parts: readonly Uint8Array[]): Buffer {
  const reader = readerOf(...parts, Buffer.from([0]));
  const pieces: Buffer[] = [];
  unpackLzma2(reader, 0, reader.size, 4096, (plain) => pieces.push(Buffer.from(plain)), 1 << 20);
  return Buffer.concat(pieces);
}

describe("LZMA2", () => {
  it("that begins anew at every byte costs no more than it holds", { tags: "long" }, () => {
    const chunks = 20_000;
    const began = threadTime();
    expect(unpack(...Array.from({ length: chunks }, () => chunk(propertiesOf(0, 4, 2)))).length).toBe(chunks);
    expect(threadTime() - began).toBeLessThan(60_000);
  });

  it("has no more bits of literals and places than its format allows", () => {
    expect(unpack(chunk(propertiesOf(3, 1, 2)))).toEqual(Buffer.from([0]));
    for (const [lc, lp] of [
      [8, 4],
      [3, 2],
      [5, 0],
    ] as const)
      expect(() => unpack(chunk(propertiesOf(lc, lp, 2)))).toThrow(InflateError);
  });
});

it("LZMA elsewhere has more of them, but no tables that take longer to make than anybody's data to unpack", () => {
  const decoder = () => new LzmaDecoder(readerOf(Buffer.alloc(16)), 4096, () => undefined, 16);
  expect(decoder().setProperties(propertiesOf(8, 0, 2))).toBe(true);
  expect(decoder().setProperties(propertiesOf(8, 4, 2))).toBe(false);
  expect(decoder().setProperties(225)).toBe(false);
});

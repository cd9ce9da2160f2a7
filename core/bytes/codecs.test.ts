import { deflateRawSync } from "node:zlib";
import { describe, expect, it } from "vitest";
import { seeded } from "../../demo/draw";
import { MemorySource, readBytes } from "./byte-source";
import { CODECS, type Coding, MOST_CODED } from "./codecs";
import { type Layout, LayoutSource } from "./layout";
import { decodeLayout, encodeLayout } from "./layout-code";
import { Malformed } from "./malformed";

const names = Object.keys(CODECS) as Coding[];

/** "Larkfield Observatory, night log. " 40 times, packed by the bz2 module of Python 3.11 (libbzip2 1.0.8). */
const BZIP2 =
  "QlpoOTFBWSZTWVldxi4AAIuVgEAFAAS37Z0gIACQKNGQNGmRoFKqGjTIBjU5iZibiZCYE8idgmYmBNBPwn0TAmwnAnQTQTYTgTAnAnoJqJ9E3EyE1E4EwJkJ3CfxdyRThQkFldxi4A==";
const TEXT = "Larkfield Observatory, night log. ".repeat(40);

describe("codecs", () => {
  it("have numbers of their own in stored layouts, that fit their place", () => {
    const tags = names.map((name) => CODECS[name].tag);
    expect(new Set(tags).size).toBe(tags.length);
    for (const tag of tags) expect(tag >= 4 && tag < 16).toBe(true);
  });

  it("of nonsense give as many bytes as were asked for, and never crash", () => {
    const random = seeded(3);
    for (const name of names)
      for (let round = 0; round < 300; round += 1) {
        const coded = Uint8Array.from({ length: Math.floor(random() * 600) }, () => Math.floor(random() * 256));
        expect(CODECS[name].decode(coded, 5000).bytes.length).toBe(5000);
      }
  });

  it("bzip2 data that do not begin as such are refused, whatever size of block they name", () => {
    for (const [at, byte] of [
      [3, 0x1c],
      [3, 0x30],
      [3, 0xff],
      [0, 0x43],
    ] as const) {
      const packed = Buffer.from(BZIP2, "base64");
      packed[at] = byte;
      expect(CODECS.bzip2.decode(packed, 100)).toEqual({ bytes: new Uint8Array(100), sound: false });
    }
  });

  it("deflate and bzip2 give back what other tools packed; damaged, what is sound before it", () => {
    const plain = Buffer.from(TEXT);
    const packed = { deflate: deflateRawSync(plain), bzip2: Buffer.from(BZIP2, "base64") };
    for (const name of ["deflate", "bzip2"] as const) {
      const whole = CODECS[name].decode(packed[name], plain.length);
      expect([whole.sound, Buffer.from(whole.bytes).equals(plain)]).toEqual([true, true]);
      expect(CODECS[name].decode(packed[name].subarray(0, packed[name].length >> 1), plain.length).sound).toBe(false);
      // More plain bytes than the layout says, and fewer.
      expect(CODECS[name].decode(packed[name], plain.length - 1).sound).toBe(false);
      expect(CODECS[name].decode(packed[name], plain.length + 1).sound).toBe(false);
    }
  });

  it("are read through a layout from any byte on, and come back from its stored form", () => {
    const plain = Buffer.from(TEXT);
    const deflated = deflateRawSync(plain);
    const bzip2 = Buffer.from(BZIP2, "base64");
    const disk = Buffer.concat([Buffer.alloc(100, 7), deflated, Buffer.alloc(50, 9), bzip2]);
    const layout: Layout = {
      size: 2 * plain.length,
      segments: [
        { kind: "coded", coding: "deflate", length: plain.length, from: [{ at: 100, length: deflated.length }] },
        { kind: "coded", coding: "bzip2", length: plain.length, from: [{ at: 150 + deflated.length, length: bzip2.length }] },
      ],
    };
    const stored = decodeLayout(encodeLayout(layout));
    expect(stored).toEqual(layout);
    const source = new LayoutSource(new MemorySource(disk), stored);
    const both = Buffer.concat([plain, plain]);
    for (const [at, length] of [
      [0, both.length],
      [777, 1],
      [plain.length - 3, 7],
      [both.length - 5, 5],
    ] as const)
      expect(Buffer.from(readBytes(source, at, length))).toEqual(both.subarray(at, at + length));
  });

  it("a stored layout whose piece is larger than any is refused", () => {
    const layout = (length: number): Layout => ({
      size: length,
      segments: [{ kind: "coded", coding: "lzx", length, from: [{ at: 0, length: 1 }] }],
    });
    expect(decodeLayout(encodeLayout(layout(MOST_CODED)))).toEqual(layout(MOST_CODED));
    expect(() => decodeLayout(encodeLayout(layout(MOST_CODED + 1)))).toThrow(Malformed);
  });
});

import { createHash, randomBytes } from "node:crypto";
import { constants, deflateRawSync } from "node:zlib";
import { describe, expect, it } from "vitest";
import { seeded } from "../../demo/draw";
import { BlockReader } from "./block-reader";
import { MemorySource, readBytes } from "./byte-source";
import { bzip2Unpacker } from "./bzip2";
import { MOST_AT_ONCE } from "./codecs";
import { inflater } from "./inflate";
import { type Layout, LayoutSource } from "./layout";
import { decodeLayout, encodeLayout } from "./layout-code";
import { StreamedBytes } from "./streamed-bytes";

// DEFLATE: RFC 1951, packed by zlib.
const MIB = 1 << 20;
const noise = randomBytes(MIB);
/** Parts that repeat, parts that do not, and zeros. */
const plain = Buffer.concat(
  Array.from({ length: 72 }, (_, i) =>
    i % 3 === 0
      ? Buffer.alloc(MIB, `line ${i} of a log\n`)
      : i % 3 === 1
        ? Buffer.concat([noise.subarray(i * 999), noise.subarray(0, i * 999)])
        : Buffer.alloc(MIB),
  ),
);
const packed = new Uint8Array(deflateRawSync(plain, { level: 3 }));
const layout: Layout = {
  size: plain.length,
  segments: [{ kind: "coded", coding: "deflate", length: plain.length, from: [{ at: 5, length: packed.length }] }],
};
const disk = (bytes: Uint8Array) => new MemorySource(Buffer.concat([Buffer.from("ahead"), bytes]));
const hash = (bytes: Uint8Array) => createHash("sha256").update(bytes).digest("hex");

describe("a deflated piece that is too large to be decoded at once", () => {
  it("is read from its beginning to its end as zlib has it, and its layout is kept", { tags: "long" }, () => {
    expect(plain.length).toBeGreaterThan(MOST_AT_ONCE);
    const source = new LayoutSource(disk(packed), decodeLayout(encodeLayout(layout)));
    const sum = createHash("sha256");
    for (let at = 0; at < source.size; at += MIB + 77) sum.update(readBytes(source, at, Math.min(MIB + 77, source.size - at)));
    expect(sum.digest("hex")).toBe(hash(plain));
    expect(source.unreadable(0, source.size)).toEqual([]);
  });

  it("is read at any place, forwards and back", { tags: "long" }, () => {
    const source = new StreamedBytes((take) => inflater(new BlockReader(new MemorySource(packed)), 0, packed.length, take));
    const random = seeded(77);
    for (let tries = 0; tries < 60; tries += 1) {
      const length = 1 + Math.floor(random() * 70_000);
      const at = Math.floor(random() * (plain.length - length));
      const into = new Uint8Array(length);
      source.read(at, into);
      expect(Buffer.from(into).equals(plain.subarray(at, at + length)), `${length} bytes at ${at}`).toBe(true);
    }
  });

  it("that is damaged gives what stands before, zeros behind, and says from where", { tags: "long" }, () => {
    // A block ends at a byte after the first half (zlib's full flush); behind it a block of a kind that does not exist (3.2.3).
    const half = plain.length / 2;
    const first = deflateRawSync(plain.subarray(0, half), { finishFlush: constants.Z_FULL_FLUSH });
    const damaged = Buffer.concat([first, Buffer.from([0x07]), deflateRawSync(plain.subarray(half))]);
    const own: Layout = {
      size: plain.length,
      segments: [{ kind: "coded", coding: "deflate", length: plain.length, from: [{ at: 5, length: damaged.length }] }],
    };
    const source = new LayoutSource(disk(damaged), own);
    const read = readBytes(source, 0, source.size);
    expect(source.unreadable(0, source.size)).toEqual([{ start: half, end: plain.length }]);
    expect(Buffer.from(read.subarray(0, half)).equals(plain.subarray(0, half))).toBe(true);
    expect(read.subarray(half).every((byte) => byte === 0)).toBe(true);
  });

  it("that breaks off gives what there is", () => {
    const cut = Math.floor(packed.length / 3);
    const source = new LayoutSource(disk(packed.subarray(0, cut)), {
      ...layout,
      segments: [{ ...layout.segments[0], from: [{ at: 5, length: cut }] } as (typeof layout.segments)[number]],
    });
    const read = readBytes(source, 0, source.size);
    const from = source.unreadable(0, source.size)[0]?.start ?? 0;
    expect(from).toBeGreaterThan(plain.length / 10);
    expect(Buffer.from(read.subarray(0, from)).equals(plain.subarray(0, from))).toBe(true);
  });
});

/** Twelve stretches of 2 MiB, each of its number (0 to 11) alone, packed by the bz2 module of Python 3.11 (libbzip2 1.0.8). */
const RUNS =
  "QlpoOTFBWSZTWXu+gjcAEBBgAP/4AAQACDABeAAgAAEAAAKVVP9VDRv1R+qcCAdlCgLAQDPuhQFgIBn5QoCwEAz9oUBYCAZ4oUBYCAZ/UKAsBAM/6FAWAgGeaFAWAgGbQoCwEAz1QoCwEAz3QoCwEAziKAu7u7u7u7QQDQQDQQDQQDQQDQQDQQDQQDQQDQQDQQD0CAfBdyRThQkHu+gjcA==";

describe("a block that unpacks to more than is kept of what was read", () => {
  it("is read at any place, each time", () => {
    const source = new MemorySource(Buffer.from(RUNS, "base64"));
    const streamed = new StreamedBytes((take) => bzip2Unpacker(new BlockReader(source), 0, take));
    const random = seeded(5);
    for (let tries = 0; tries < 12; tries += 1) {
      const at = tries === 0 ? 0 : Math.floor(random() * (24 * MIB - 5000));
      const into = new Uint8Array(5000);
      streamed.read(at, into);
      expect(into.every((byte, i) => byte === Math.floor((at + i) / (2 * MIB)))).toBe(true);
    }
  });
});

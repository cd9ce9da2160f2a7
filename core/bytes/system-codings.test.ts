import { gunzipSync } from "node:zlib";
import { describe, expect, it } from "vitest";
import { seeded } from "../../demo/draw";
import { fixture } from "../../tests/support/volume-truth";
import { systemCoding, systemCompressed } from "../filesystems/ntfs/system-compression";
import { MemorySource, readBytes } from "./byte-source";
import { LayoutSource } from "./layout";
import { decodeLayout, encodeLayout } from "./layout-code";
import { decodeLzx } from "./lzx";
import { decodeXpress } from "./xpress";

interface Coded {
  name: string;
  coding: "xpress" | "lzx";
  chunk: number;
  plain: string;
  coded: string;
}
/** Coded by wimlib-imagex; tests/fixtures/make-system-compressed.ts says how. */
const samples = JSON.parse(fixture("system-compressed.json.gz").toString()) as Coded[];

describe("the system's own compression of files", () => {
  it.each(samples.map((sample) => [sample.name, sample] as const))("%s: the plain bytes are those the coder was given", (_, sample) => {
    const plain = gunzipSync(Buffer.from(sample.plain, "base64"));
    const coded = Buffer.from(sample.coded, "base64");
    const disk = Buffer.concat([Buffer.alloc(1000, 7), coded]);
    const stream = { size: coded.length, segments: [{ kind: "disk" as const, at: 1000, length: coded.length }] };
    const found = systemCompressed(new MemorySource(disk), stream, plain.length, sample);
    // As it is stored in the database and read again.
    const layout = decodeLayout(encodeLayout(found?.layout ?? { size: 0, segments: [] }));
    const read = readBytes(new LayoutSource(new MemorySource(disk), layout), 0, plain.length);
    expect(Buffer.from(read).equals(plain)).toBe(true);
    expect(found?.notes).toEqual([]);
    // The same held in a record: the disk's bytes there are not the file's.
    const held = systemCompressed(
      new MemorySource(disk),
      { size: coded.length, segments: [{ kind: "held", at: 0, length: coded.length, bytes: coded }] },
      plain.length,
      sample,
    );
    const again = decodeLayout(encodeLayout(held?.layout ?? { size: 0, segments: [] }));
    expect(Buffer.from(readBytes(new LayoutSource(new MemorySource(new Uint8Array(2000)), again), 0, plain.length)).equals(plain)).toBe(
      true,
    );
  });

  it("is known by the reparse point: version, provider and coding", () => {
    const point = (...values: number[]) =>
      Uint8Array.from(Buffer.concat([Buffer.alloc(8), ...values.map((value) => Buffer.from(Uint32Array.of(value).buffer))]));
    expect([0, 1, 2, 3].map((coding) => systemCoding(point(1, 2, 1, coding)))).toEqual([
      { coding: "xpress", chunk: 4096 },
      { coding: "lzx", chunk: 32_768 },
      { coding: "xpress", chunk: 8192 },
      { coding: "xpress", chunk: 16_384 },
    ]);
    for (const wrong of [point(1, 1, 1, 0), point(2, 2, 1, 0), point(1, 2, 1, 9), point(1, 2)]) expect(systemCoding(wrong)).toBeNull();
  });

  it("damaged: ends without a crash, and says that it is not sound when it notices", () => {
    const random = seeded(5);
    for (const sample of samples.filter((each) => each.name.endsWith(" 3000") || each.name.endsWith(" 50000"))) {
      const coded = Buffer.from(sample.coded, "base64");
      const chunk = coded.subarray(
        Math.min(coded.length - 1, sample.name.endsWith("50000") ? 4 * (Math.ceil(50_000 / sample.chunk) - 1) : 0),
      );
      for (let round = 0; round < 400; round += 1) {
        const bytes = Uint8Array.from(chunk.subarray(0, 1 + Math.floor(random() * chunk.length)));
        for (let hits = 0; hits < 4; hits += 1) bytes[Math.floor(random() * bytes.length)] = Math.floor(random() * 256);
        const decode = sample.coding === "lzx" ? decodeLzx : decodeXpress;
        expect(decode(bytes, Math.min(3000, sample.chunk)).bytes.length).toBe(Math.min(3000, sample.chunk));
      }
    }
  });
});

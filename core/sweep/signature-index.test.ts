import { createCipheriv } from "node:crypto";
import { readFileSync } from "node:fs";
import { describe, expect, it } from "vitest";
import { LOOPS, loopFile } from "../../scripts/compile-loops";
import type { Format } from "../formats/format";
import { FORMATS } from "../formats/registry";
import { AHEAD, BLOCK, SECTOR } from "./mark-search";
import { SignatureIndex } from "./signature-index";

const index = new SignatureIndex(() => true);
const bytesOf = (mark: string) => Uint8Array.from(mark, (each) => each.charCodeAt(0));
const take = (bytes: Uint8Array) => index.take(bytes.length, (into) => into.set(bytes));

/** Bytes without any order, the same every time. */
const noise = (length: number, seed: number) =>
  createCipheriv("aes-128-ctr", Buffer.alloc(16, seed), Buffer.alloc(16)).update(Buffer.alloc(length));

/** Everything the index brings up in `bytes`, block after block, as a sweep takes them in: "place format". */
function broughtUp(bytes: Uint8Array, everyByte: boolean): Set<string> {
  const found = new Set<string>();
  for (let at = 0; at < bytes.length; at += BLOCK) {
    const length = Math.min(BLOCK, bytes.length - at);
    take(bytes.subarray(at, Math.min(bytes.length, at + length + AHEAD)));
    for (const candidate of [...index.atSectors(length, at, () => false), ...(everyByte ? index.anywhere(length) : [])])
      for (const { id } of candidate.formats) found.add(`${at + candidate.at} ${id}`);
  }
  return found;
}

/** Formats whose marks are looked for at every byte: four bytes without two zeros, and no ordinary words. */
const isLookedForAnywhere = (mark: Uint8Array, back: number, { id }: Format) =>
  back < SECTOR && mark[0] !== 0 && !["eml", "mbox", "html"].includes(id) && fourWithoutZeros(mark);
const fourWithoutZeros = (mark: Uint8Array) =>
  Array.from({ length: Math.max(0, mark.length - 3) }, (_, i) => mark.subarray(i, i + 4)).some(
    (four) => !four.some((byte, i) => byte === 0 && four[i + 1] === 0),
  );

/** Truth: every mark of the registry looked for by itself with the platform's own search. */
function marksIn(bytes: Buffer, everyByte: boolean): Set<string> {
  const found = new Set<string>();
  for (const format of FORMATS)
    for (const { at: back, mark } of format.signatures ?? []) {
      const needle = bytesOf(mark);
      for (let at = bytes.indexOf(needle); at >= 0; at = bytes.indexOf(needle, at + 1)) {
        const start = at - back;
        if (start % SECTOR !== 0 && !(everyByte && isLookedForAnywhere(needle, back, format))) continue;
        if (start >= 0) found.add(`${start} ${format.id}`);
      }
    }
  return found;
}

describe("the search for marks", () => {
  it("brings up every mark of every format, wherever it stands, as the platform's own search does", () => {
    const bytes = noise(5 * BLOCK, 3);
    const marks = FORMATS.flatMap((format) => (format.signatures ?? []).map(({ at, mark }) => ({ at, mark: bytesOf(mark) })));
    // One after the other at odd and even places, across block edges among others, and at sectors.
    marks.forEach(({ at, mark }, i) => {
      bytes.set(mark, 40_000 + i * 1111 + at);
      if (at < SECTOR) bytes.set(mark, BLOCK * 3 + 4096 + i * 2 * SECTOR + at);
    });
    for (const [i, edge] of [1, 2, 3, 4].entries())
      for (let back = 1; back <= 8; back += 1) if (back % 4 === i) bytes.set(bytesOf("%PDF-"), edge * BLOCK - back);
    for (const everyByte of [false, true]) {
      const truth = marksIn(bytes, everyByte);
      expect(truth.size).toBeGreaterThan(everyByte ? 300 : 150);
      expect([...broughtUp(bytes, everyByte)].sort()).toEqual([...truth].sort());
    }
  });

  it("brings up nothing but what is there", { tags: "long" }, () => {
    for (const seed of [11, 12]) {
      const bytes = noise(1 << 24, seed);
      expect([...broughtUp(bytes, true)].sort()).toEqual([...marksIn(bytes, true)].sort());
    }
  });

  it("takes no mark from what stood in the block before", () => {
    const full = new Uint8Array(BLOCK + AHEAD);
    for (let at = 0; at + 8 < full.length; at += 100) full.set(bytesOf("%PDF-1.4"), at);
    take(full);
    expect(index.anywhere(BLOCK).length).toBeGreaterThan(1000);
    take(full.subarray(0, 702));
    expect(index.anywhere(702).map(({ at }) => at)).toEqual([100, 200, 300, 400, 500, 600]);
  });

  it("takes text for a beginning only where none stood before, and no fill", () => {
    const text = new Uint8Array(4 * SECTOR);
    const words = Buffer.from("The harbour was quiet that evening, and nobody asked about the lantern. ".repeat(30));
    text.set(words.subarray(0, 2 * SECTOR), SECTOR);
    text.fill(0x2e, 3 * SECTOR);
    take(text);
    expect(index.atSectors(text.length, 0, () => false).map(({ at, text: reads }) => [at, reads])).toEqual([[SECTOR, true]]);
    take(text.subarray(SECTOR));
    expect(index.atSectors(2 * SECTOR, SECTOR, () => true)).toEqual([]);
  });

  it("runs what its source says", { tags: "long" }, async () => {
    for (const loop of LOOPS) expect(readFileSync(loop.kept, "utf8")).toBe(await loopFile(loop));
  });
});

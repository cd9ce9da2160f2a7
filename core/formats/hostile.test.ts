import { gzipSync } from "node:zlib";
import fc from "fast-check";
import { zipSync } from "fflate";
import { describe, expect, it } from "vitest";
import { seeded } from "../../demo/draw";
import { damagedFile } from "../../tests/support/file-mutations";
import { carveImage, labFiles } from "../../tests/support/lab-files";
import { MemorySource } from "../bytes/byte-source";
import { repair } from "../repair/repair";
import { Domain } from "../sweep/domain";
import { USUAL } from "../sweep/joining/effort";
import { sweep } from "../sweep/sweep";
import { outlineOf } from "./outline";
import { FORMATS, identify, resolved, runFollow, runSummary } from "./registry";

const { bytes, files } = carveImage();
const lab = labFiles();
const samples = [
  ...files
    .filter(({ state }) => state.startsWith("contiguous"))
    .map(({ path, firstOffset, size }) => ({ path, content: Buffer.from(bytes.subarray(firstOffset ?? 0, (firstOffset ?? 0) + size)) })),
  ...lab.entries.map(({ path }) => ({ path, content: lab.bytes(path) })),
].filter(({ content }) => content.length < 150_000);

/** Everything that is asked of a content; throws for whatever no hostile file may do. */
function ask(content: Uint8Array, name: string): void {
  const source = new MemorySource(content);
  const format = identify(source, name);
  if (format) {
    const extent = runFollow(format, source);
    if (extent) {
      if (!(extent.size >= 0 && extent.size <= source.size)) throw new Error(`${format.id}: an extent of ${extent.size} in ${source.size}`);
      const { verdict } = extent;
      if (verdict.verdict === "damaged" && !(verdict.at >= 0 && verdict.at <= source.size))
        throw new Error(`${format.id}: damaged at ${verdict.at}`);
    }
    runSummary(resolved(format, source), source);
    outlineOf(source, name);
  }
}

describe("hostile files", () => {
  it.each(samples)("$path, damaged in many ways, is never more than a damaged file", { timeout: 60_000 }, ({ path, content }) => {
    const random = seeded(content.length);
    for (let number = 0; number < 60; number += 1) {
      let form = damagedFile(content, number);
      // Several damages at once, and the beginning more often than the rest.
      if (number % 3 === 0) {
        form = Buffer.from(form);
        for (let i = 0; i < 6 && form.length > 0; i += 1) form[Math.floor(random() ** 3 * form.length)] = Math.floor(random() * 256);
      }
      ask(form, path);
      if (number % 10 === 0) repair(new MemorySource(form), path);
    }
  });

  it("whatever follows a mark of theirs, every format ends", { timeout: 60_000 }, () => {
    for (const format of FORMATS)
      for (const { at, mark } of (format.signatures ?? []).slice(0, 4)) {
        if (at > 4096) continue;
        fc.assert(
          fc.property(fc.uint8Array({ maxLength: 3000 }), fc.constantFrom(0, 0xff, -1), (tail, fill) => {
            const content = new Uint8Array(at + mark.length + tail.length);
            for (let i = 0; i < mark.length; i += 1) content[at + i] = mark.charCodeAt(i);
            content.set(fill < 0 ? tail : new Uint8Array(tail.length).fill(fill), at + mark.length);
            const extent = runFollow(format, new MemorySource(content));
            expect(extent === null || (extent.size >= 0 && extent.size <= content.length)).toBe(true);
          }),
          { numRuns: 12 },
        );
      }
  });

  it("archives that unpack to more than anybody wants are given up", { timeout: 60_000 }, () => {
    const bomb = gzipSync(Buffer.alloc(600_000_000));
    const gzip = FORMATS.find(({ id }) => id === "gzip");
    const before = process.memoryUsage().rss;
    expect(gzip && runFollow(gzip, new MemorySource(bomb))?.verdict).toEqual({
      verdict: "cannot-tell",
      reason: "the archive unpacks to more than is checked",
    });
    const layers = zipSync(Object.fromEntries(Array.from({ length: 12 }, (_, i) => [`${i}.bin`, new Uint8Array(40_000_000)])));
    const zip = FORMATS.find(({ id }) => id === "zip");
    expect(zip && runFollow(zip, new MemorySource(layers))?.verdict.verdict).toBe("cannot-tell");
    expect(process.memoryUsage().rss - before).toBeLessThan(900 << 20);
  });

  it("a sweep over damaged bytes ends, and gives no find outside of them", { timeout: 120_000 }, () => {
    const random = seeded(6);
    for (let round = 0; round < 12; round += 1) {
      const from = Math.floor(random() * 70) * 524_288;
      const part = Buffer.from(bytes.subarray(from, from + 2_000_000));
      for (let i = 0; i < 400; i += 1) part[Math.floor(random() * part.length)] = Math.floor(random() * 256);
      const source = new MemorySource(part);
      const plan = {
        domain: new Domain([{ start: 0, end: part.length }]),
        options: { everyByte: round % 2 === 0, formats: null },
        grid: { cluster: 4096, origin: 0 },
        effort: USUAL,
      };
      for (const batch of sweep(source, plan))
        for (const { segments, size } of batch.finds) {
          expect(segments.reduce((sum, { length }) => sum + length, 0)).toBe(size);
          for (const { at, length } of segments) expect(at >= 0 && at + length <= part.length).toBe(true);
        }
    }
  });
});

import { describe, expect, it } from "vitest";
import { holes } from "../../tests/support/holes";
import { imageSource, readTruth } from "../../tests/support/volume-truth";
import type { ByteSource } from "../bytes/byte-source";
import { leftoversPass } from "../copies/file-records-pass";
import { inspectDisk, openVolume } from "../volumes/inspect";
import { scanSectors } from "./sector-scan";

describe("a scan by sectors", () => {
  const marked = (places: number[], size = 64 << 20) =>
    holes(
      size,
      places.map((at) => [at, Uint8Array.of(0x46)]),
    );
  const begins = (block: Uint8Array, inside: number) => block[inside] === 0x46;

  it("goes on from any of its steps to the same end, and reads only what was noted again", () => {
    const places = [0, 512, 5 << 20, (9 << 20) - 512, 9 << 20, (40 << 20) + 1024, (64 << 20) - 512];
    const part = { start: 0, end: 64 << 20 };
    const whole = [...scanSectors(marked(places), part, 4096, begins, 0, null)];
    expect(whole.flatMap((step) => step.noted)).toEqual(places);
    for (const [index, { done }] of whole.entries()) {
      const earlier = whole.slice(0, index + 1).flatMap((step) => step.noted);
      const again: number[] = [];
      const source = marked(places);
      const note = (block: Uint8Array, inside: number, at: number) => begins(block, inside) && again.push(at) > 0;
      const rest = [...scanSectors(source, part, 4096, note, done, earlier)];
      expect(again).toEqual(places);
      expect(rest).toEqual(whole.slice(index + 1));
      expect(source.counted()).toBeLessThanOrEqual((part.end - done + (earlier.length << 20)) * 1.01);
    }
  });

  it("without what was noted begins anew, and gives all of it once it is where it was", () => {
    const places = [512, 3 << 20, 30 << 20];
    const part = { start: 0, end: 32 << 20 };
    const steps = [...scanSectors(marked(places), part, 4096, begins, 20 << 20, null)];
    expect(steps[0]).toEqual({ done: 21 << 20, noted: [512, 3 << 20] });
    expect([...scanSectors(marked(places), part, 4096, begins, 99 << 20, null)]).toEqual([{ done: 99 << 20, noted: places }]);
  });

  it("of a part keeps to it, and survives notes that make no sense", () => {
    const part = { start: (4 << 20) + 100, end: 6 << 20 };
    const steps = [...scanSectors(marked([0, 5 << 20, 6 << 20]), part, 4096, begins, 0, null)];
    expect(steps.flatMap((step) => step.noted)).toEqual([5 << 20]);
    expect([...scanSectors(marked([]), part, 4096, begins, 0, [9e15, -512, 3])].length).toBe(2);
  });
});

describe.each([
  ["ntfs-reformatted", 20],
  ["camera-formatted", 12],
])("leftovers of %s, interrupted anywhere", (name, least) => {
  const disk = imageSource(name);
  const offset = readTruth(name).volume.partitionOffset;
  const open = (source: ByteSource) => {
    const report = inspectDisk(source).volumes.find((each) => each.offset === offset);
    if (!report) throw new Error("no volume");
    return openVolume(source, report);
  };

  it("go on with what was noted to the very same copies, each given once", { tags: "long" }, () => {
    const batches = [...leftoversPass(open(disk), disk, null, 16)];
    const all = batches.flatMap((batch) => batch.copies.map((copy) => copy.reference + copy.path));
    expect(all.length).toBeGreaterThan(least);
    for (const cut of [0, 3, Math.floor(batches.length / 2), batches.length - 2]) {
      const before = batches.slice(0, cut + 1);
      const noted = before.flatMap((batch) => batch.noted ?? []);
      const rest = [...leftoversPass(open(disk), disk, before[cut]?.resume, 16, undefined, noted)];
      const listed = [...before, ...rest].flatMap((batch) => batch.copies.map((copy) => copy.reference + copy.path));
      expect(listed, `after batch ${cut}`).toEqual(all);
    }
  });
});

import fc from "fast-check";
import { describe, expect, it } from "vitest";
import { imageSource, readTruth } from "../../tests/support/volume-truth";
import { RangeSet } from "../bytes/range-set";
import { inspectDisk, openVolume } from "../volumes/inspect";
import { isUsed, planSweep } from "./plan-sweep";

const truth = readTruth("ntfs-mbr");
const disk = imageSource("ntfs-mbr");
const report = inspectDisk(disk).volumes.find((each) => each.offset === truth.volume.partitionOffset);
if (!report) throw new Error("no volume");
const volume = openVolume(disk, report);
const { clusterSize, partitionOffset } = truth.volume;
const usual = { everyByte: false, formats: null, skip: [], unusedOnly: false };

describe("what is swept", () => {
  const range = { start: report.offset, end: report.offset + report.length };

  it("where only unused space is wanted leaves out every cluster of every live file, as the driver lists them", () => {
    const { domain } = planSweep({ ...usual, range, unusedOnly: true }, volume);
    const live = truth.entries.filter((entry) => entry.state === "live" && entry.runs && entry.volume === undefined);
    const within = (at: number) => domain.ranges.some(({ start, end }) => at >= start && at < end);
    let clusters = 0;
    for (const entry of live)
      for (const [, lcn, count] of entry.runs ?? [])
        for (let i = 0; lcn !== null && i < count; i += 1) {
          clusters += 1;
          expect(within(partitionOffset + (lcn + i) * clusterSize), entry.path).toBe(false);
        }
    expect(clusters).toBeGreaterThan(1000);
    // And it leaves out nothing else: of a deleted file that is wholly there every cluster is swept.
    const intact = truth.entries.filter((entry) => entry.state === "deleted-intact" && entry.runs && entry.volume === undefined);
    expect(intact.length).toBeGreaterThan(50);
    for (const entry of intact)
      for (const [, lcn, count] of entry.runs ?? [])
        for (let i = 0; lcn !== null && i < count; i += 1) expect(within(partitionOffset + (lcn + i) * clusterSize), entry.path).toBe(true);
  });

  it("of any range is that range without what is used and what was swept, byte for byte", () => {
    const place = fc.integer({ min: 0, max: report.length });
    fc.assert(
      fc.property(
        place,
        place,
        fc.array(fc.tuple(place, fc.integer({ min: 512, max: 1 << 20 })), { maxLength: 4 }),
        fc.boolean(),
        (a, b, done, unusedOnly) => {
          const asked = { start: report.offset + Math.min(a, b), end: report.offset + Math.max(a, b) };
          const skip = RangeSet.from(done.map(([at, length]) => ({ start: report.offset + at, end: report.offset + at + length }))).ranges;
          const { domain } = planSweep({ ...usual, range: asked, skip, unusedOnly }, volume);
          for (let i = 0; i < 60; i += 1) {
            // Sectors, because files are looked for at their beginnings.
            const at = Math.ceil((asked.start + ((asked.end - asked.start) * i) / 60) / 512) * 512;
            if (at >= asked.end) continue;
            const wanted = !skip.some(({ start, end }) => at >= start && at < end) && !(unusedOnly && isUsed(volume, at));
            expect(domain.ranges.some(({ start, end }) => at >= start && at < end)).toBe(wanted);
          }
          expect(domain.ranges.every(({ start, end }, i) => end > start && start >= (domain.ranges[i - 1]?.end ?? 0))).toBe(true);
        },
      ),
      { numRuns: 60, seed: 6 },
    );
  });

  it("counts clusters from where the file system does, and leaves it to the finds where there is none", () => {
    expect(planSweep({ ...usual, range }, volume)).toMatchObject({ grid: { cluster: clusterSize, origin: volume.allocationStart } });
    expect(planSweep({ ...usual, range: { start: 1000, end: 9000 } }, null)).toMatchObject({
      grid: null,
      domain: { ranges: [{ start: 1024, end: 9000 }] },
    });
    expect(isUsed(null, 0)).toBe(false);
    expect(isUsed(volume, report.offset - 1)).toBe(false);
    expect(isUsed(volume, report.offset + report.length + clusterSize)).toBe(false);
  });
});

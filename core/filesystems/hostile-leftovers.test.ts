import { describe, expect, it } from "vitest";
import { seeded } from "../../demo/draw";
import { drivenOverBy } from "../../tests/support/driven-volumes";
import { ALL, bareGround, tracesOn } from "../../tests/support/former-traces";
import { leastTime } from "../../tests/support/thread-time";
import { MemorySource } from "../bytes/byte-source";
import { diskRuns } from "../bytes/layout";
import type { FileRecord } from "./file-record";
import { likeliest } from "./file-record";
import { ofFormer } from "./ground";
import { changedScan, readLeftovers } from "./leftovers";
import { FILE_SYSTEMS } from "./registry";

const SIZE = 8 << 20;
const FORMER = FILE_SYSTEMS.flatMap(({ former }) => (former ? [former] : []));
/** Real traces of each kind, which drivers left on the disks of the fixtures. */
const TRACES = FORMER.map(({ title, scan }) => {
  const volumes = drivenOverBy("exfat-over-apfs", "hfsplus-over-fat", "ntfs-over-exfat", "ntfs-over-hfsplus", "fat-over-ntfs");
  return { title, scan, found: volumes.flatMap((volume) => tracesOn(volume.open(), scan, 200).map(({ bytes }) => bytes)) };
});

/** A volume full of such traces, bytes of them changed at random: none need be true, and together they claim anything. */
function hostileVolume(traces: readonly Uint8Array[], seed: number): MemorySource {
  const random = seeded(seed);
  const bytes = new Uint8Array(SIZE);
  for (let at = 0; at + 4096 <= SIZE; at += 512 * (1 + Math.floor(random() * 8))) {
    bytes.set(traces[Math.floor(random() * traces.length)] as Uint8Array, at);
    for (let changes = Math.floor(random() * 4); changes > 0; changes -= 1)
      bytes[at + Math.floor(random() ** 2 * 4096)] = Math.floor(random() * 256);
  }
  return new MemorySource(bytes);
}

describe("traces of former file systems that claim anything", () => {
  it.each(TRACES)("$title: are gone through in bounds, and nothing of them is sure", { timeout: 300_000 }, ({ title, scan, found }) => {
    expect(found.length).toBeGreaterThan(3);
    for (const seed of [1]) {
      const disk = hostileVolume(found, seed);
      const { result, time } = leastTime(() => {
        const scans = [changedScan(scan(bareGround(disk)), (record) => ofFormer(record, title))];
        const records: FileRecord[] = [];
        for (const batch of readLeftovers({ volume: disk, start: 0, scans }, null, 512, ALL, null))
          if (records.length < 200_000) records.push(...batch.records);
        return records;
      });
      expect(result.length).toBeGreaterThan(20);
      for (const record of result) {
        const place = likeliest(record);
        if (record.state !== "deleted" || !record.leftover) throw new Error(`${record.reference}: is no leftover`);
        const runs = place ? diskRuns(place.layout) : [];
        if (runs.some(({ at, length }) => at < 0 || at + length > SIZE)) throw new Error(`${record.reference}: leads out of the volume`);
        if (place?.sure && runs.length > 0 && place.layout.segments.some(({ kind }) => kind === "disk" || kind === "coded"))
          throw new Error(`${record.reference}: is sure`);
      }
      expect(time).toBeLessThan(60_000);
    }
  });
});

import { describe, expect, it } from "vitest";
import { seeded } from "../../../demo/draw";
import { fixture } from "../../../tests/support/volume-truth";
import { MemorySource, readBytes } from "../../bytes/byte-source";
import { LayoutSource } from "../../bytes/layout";
import { fileRecordsPass, leftoversPass } from "../../copies/file-records-pass";
import { inspectDisk, openVolume } from "../../volumes/inspect";
import { FileSystemError } from "../file-record";

const MUTATIONS = Number(process.env.COMPASS_MUTATIONS ?? 5_000);
const SLOWEST_MS = 2_000;
const MOST_MEMORY = 512 << 20;

/** Values that break careless arithmetic, besides random ones. */
const NASTY = [0, 1, 0x7f, 0x80, 0xff];

/** Reads everything of a volume, as a pass would, and something of every content. */
function readAll(bytes: Uint8Array): number {
  const disk = new MemorySource(bytes);
  let copies = 0;
  for (const report of inspectDisk(disk).volumes) {
    try {
      const volume = openVolume(disk, report);
      for (const finding of volume.findings?.() ?? []) expect(finding.count).toBeGreaterThan(0);
      for (const batch of [...fileRecordsPass(volume, disk), ...leftoversPass(volume, disk)]) {
        for (const copy of batch.copies) {
          copies += 1;
          expect(copy.survival >= 0 && copy.survival <= 1).toBe(true);
          if (copy.layout) readBytes(new LayoutSource(disk, copy.layout), Math.max(0, copy.layout.size - 64), 64);
        }
      }
    } catch (error) {
      // The one way in which a volume may refuse: in words.
      if (!(error instanceof FileSystemError)) throw error;
    }
  }
  return copies;
}

describe("a damaged NTFS volume", () => {
  it(`never crashes, hangs or fills the memory: ${MUTATIONS} mutations`, { timeout: 600_000 }, () => {
    const bytes = Uint8Array.from(fixture("tiny-ntfs.img.gz"));
    const random = seeded(20_261_124);
    const number = (below: number) => Math.floor(random() * below);
    const { mftAt, mftLength } = tableOf(bytes);
    let slowest = 0;
    let found = 0;
    for (let round = 0; round < MUTATIONS; round += 1) {
      const undo: [number, number][] = [];
      for (let changes = 1 + number(6); changes > 0; changes -= 1) {
        // Mostly where it hurts: the boot sector and the file table; sometimes anywhere.
        const where = random();
        const at = where < 0.1 ? number(96) : where < 0.9 ? mftAt + number(mftLength) : number(bytes.length);
        undo.push([at, bytes[at] as number]);
        bytes[at] = random() < 0.5 ? (NASTY[number(NASTY.length)] as number) : number(256);
      }
      const begun = process.cpuUsage();
      found += readAll(bytes);
      // Processor time: other processes of the machine must not make it fail. A true hang meets the time limit.
      const { user, system } = process.cpuUsage(begun);
      slowest = Math.max(slowest, (user + system) / 1000);
      for (const [at, byte] of undo.reverse()) bytes[at] = byte;
    }
    expect(slowest).toBeLessThan(SLOWEST_MS);
    expect(process.memoryUsage().rss).toBeLessThan(MOST_MEMORY);
    // The mutations must leave something to read, or they would test nothing.
    expect(found).toBeGreaterThan(MUTATIONS);
  });

  it("cut off anywhere still gives what is there, or says why not", () => {
    const bytes = Uint8Array.from(fixture("tiny-ntfs.img.gz"));
    for (let length = 0; length < bytes.length; length += 12_289) expect(() => readAll(bytes.subarray(0, length))).not.toThrow();
  });

  it("lists what it can when records in the middle of the file table are gone", () => {
    const bytes = Uint8Array.from(fixture("tiny-ntfs.img.gz"));
    const whole = readAll(bytes);
    const { mftAt } = tableOf(bytes);
    bytes.fill(0xee, mftAt + 30 * 1024, mftAt + 32 * 1024);
    expect(readAll(bytes)).toBeGreaterThan(whole - 6);
  });

  it("uses the mirror of the file table's first record when that is gone, and says so", () => {
    const bytes = Uint8Array.from(fixture("tiny-ntfs.img.gz"));
    const whole = readAll(bytes);
    const { mftAt } = tableOf(bytes);
    bytes.fill(0, mftAt, mftAt + 1024);
    expect(inspectDisk(new MemorySource(bytes)).volumes[0]?.notes.join()).toContain("copy was used");
    expect(readAll(bytes)).toBeGreaterThanOrEqual(whole - 1);
  });
});

function tableOf(bytes: Uint8Array): { mftAt: number; mftLength: number } {
  const view = new DataView(bytes.buffer, bytes.byteOffset);
  return { mftAt: view.getUint32(0x30, true) * 512, mftLength: 70 * 1024 };
}

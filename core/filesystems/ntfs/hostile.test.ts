import { describe, expect, it } from "vitest";
import { readDisk } from "../../../tests/support/mutations";
import { fixture } from "../../../tests/support/volume-truth";
import { MemorySource } from "../../bytes/byte-source";
import { inspectDisk } from "../../volumes/inspect";

describe("a damaged NTFS volume", () => {
  it("lists what it can when records in the middle of the file table are gone", () => {
    const bytes = Uint8Array.from(fixture("tiny-ntfs.img.gz"));
    const whole = readDisk(bytes);
    const { mftAt } = tableOf(bytes);
    bytes.fill(0xee, mftAt + 30 * 1024, mftAt + 32 * 1024);
    expect(readDisk(bytes)).toBeGreaterThan(whole - 6);
  });

  it("uses the mirror of the file table's first record when that is gone, and says so", () => {
    const bytes = Uint8Array.from(fixture("tiny-ntfs.img.gz"));
    const whole = readDisk(bytes);
    const { mftAt } = tableOf(bytes);
    bytes.fill(0, mftAt, mftAt + 1024);
    expect(inspectDisk(new MemorySource(bytes)).volumes[0]?.notes.join()).toContain("copy was used");
    expect(readDisk(bytes)).toBeGreaterThanOrEqual(whole - 1);
  });
});

function tableOf(bytes: Uint8Array): { mftAt: number; mftLength: number } {
  const view = new DataView(bytes.buffer, bytes.byteOffset);
  return { mftAt: view.getUint32(0x30, true) * 512, mftLength: 70 * 1024 };
}

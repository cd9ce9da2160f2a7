import { describe, expect, it } from "vitest";
import { manyVolumes } from "../../tests/support/many-volumes";
import { fixture, readTruth } from "../../tests/support/volume-truth";
import { MemorySource } from "../bytes/byte-source";
import { readPartitions } from "./read-partitions";

const gptDisk = () => Uint8Array.from(fixture("ntfs-gpt.img.gz"));

describe("GPT", () => {
  it("finds what the partitioning tool wrote (its own listing stands in the image's manifest)", () => {
    const listed = (readTruth("ntfs-gpt") as unknown as { partitionTool: string[] }).partitionTool
      .map((line) => /^\s+\d+\s+(\d+)\s+(\d+)\s+\S+ \S+\s+\S+\s+(.*)$/.exec(line))
      .filter((match) => match !== null)
      .map((match) => ({ start: Number(match[1]) * 512, length: (Number(match[2]) - Number(match[1]) + 1) * 512 }));
    const table = readPartitions(new MemorySource(gptDisk()));
    expect(table.kind).toBe("gpt");
    expect(listed).toHaveLength(3);
    expect(table.partitions.map(({ start, length }) => ({ start, length }))).toEqual(listed);
    expect(table.notes).toEqual([]);
  });

  it.each([
    ["the header is gone", (disk: Uint8Array) => disk.fill(0, 512, 1024)],
    ["a bit of the header flipped", (disk: Uint8Array) => disk.set([(disk[512 + 0x30] as number) ^ 1], 512 + 0x30)],
    ["a bit of the table flipped", (disk: Uint8Array) => disk.set([(disk[1024 + 0x38] as number) ^ 1], 1024 + 0x38)],
  ])("uses the backup and says so when %s", (_words, damage) => {
    const whole = readPartitions(new MemorySource(gptDisk()));
    const disk = gptDisk();
    damage(disk);
    const table = readPartitions(new MemorySource(disk));
    expect(table.partitions).toEqual(whole.partitions);
    expect(table.notes.join()).toContain("backup");
  });

  it("of a hybrid disk is what counts, and the boot record that names its partitions again is reported", () => {
    const whole = readPartitions(new MemorySource(gptDisk()));
    const disk = gptDisk();
    // The boot record's table after `sgdisk --hybrid=1:3` (GPT fdisk 1.0.9) on this very disk.
    disk.set(Buffer.from("AAACAO4gIAABAAAA/wcAAAAgIQDvYSEAAAgAAAAQAAAAggMAByMcBwAgAAAAoAEAAAAAAAAAAAAAAAAAAAAAAFWq", "base64"), 446);
    const hybrid = readPartitions(new MemorySource(disk));
    expect(hybrid).toMatchObject({ kind: "gpt", partitions: whole.partitions });
    expect(hybrid.notes.join()).toContain("a hybrid disk");
    // A partition only the boot record knows.
    new DataView(disk.buffer).setUint32(446 + 32 + 8, 60_000, true);
    expect(readPartitions(new MemorySource(disk)).notes.join()).toContain(`names a partition at ${60_000 * 512}`);
  });

  it("claims no partitions when both tables are bad, and says what should be there", () => {
    const disk = gptDisk();
    disk.fill(0, 512, 1024);
    disk.fill(0, disk.length - 512);
    const table = readPartitions(new MemorySource(disk));
    expect(table.partitions).toEqual([]);
    expect(table.kind).toBe("none");
  });
});

describe("MBR", () => {
  const mbrDisk = () => Uint8Array.from(fixture("ntfs-mbr.img.gz"));

  it("follows the extended partition to its logical one (as the partitioning tool lists them)", () => {
    const table = readPartitions(new MemorySource(mbrDisk()));
    expect(table.kind).toBe("mbr");
    expect(table.partitions.map(({ start, length, type }) => [start / 512, length / 512, type])).toEqual([
      [2048, 73_728, "0x07"],
      [77_824, 8192, "0x06"],
    ]);
  });

  it("follows a long chain of extended partitions to its last one", () => {
    const table = readPartitions(new MemorySource(manyVolumes(14)));
    expect(table.partitions.length).toBe(14);
    expect(new Set(table.partitions.map(({ start }) => start)).size).toBe(14);
    expect(table.notes).toEqual([]);
  });

  it("stops when the chain of extended partitions runs in a circle", () => {
    const disk = mbrDisk();
    // The second entry of the extended boot record (sector 75776) points back to itself.
    const entry = 75_776 * 512 + 0x1be + 16;
    new DataView(disk.buffer).setUint8(entry + 4, 0x05);
    new DataView(disk.buffer).setUint32(entry + 8, 0, true);
    new DataView(disk.buffer).setUint32(entry + 12, 100, true);
    const table = readPartitions(new MemorySource(disk));
    expect(table.partitions).toHaveLength(2);
    expect(table.notes.join()).toContain("circle");
  });

  it("does not take a volume's own boot sector for a partition table", () => {
    const disk = mbrDisk();
    expect(readPartitions(new MemorySource(disk.subarray(1_048_576))).kind).toBe("none");
  });
});

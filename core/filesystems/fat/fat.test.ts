import { createHash } from "node:crypto";
import { describe, expect, it } from "vitest";
import { seeded } from "../../../demo/draw";
import { contentHash, copiesAt, fixture, imageSource, pathOf, readTruth, type TrueEntry } from "../../../tests/support/volume-truth";
import { MemorySource, readBytes } from "../../bytes/byte-source";
import { LayoutSource } from "../../bytes/layout";
import { dosTimeToMs } from "../../bytes/times";
import type { Copy } from "../../copies/copy";
import { inspectDisk } from "../../volumes/inspect";
import { readDirectory, shortNameChecksum } from "./directory";

interface FatEntry extends TrueEntry {
  firstOffset?: number;
  contiguous?: boolean;
  longName?: boolean;
  dirEntry?: { imageOffset: number; kept: boolean; shortName: string };
}

describe.each(["fat12", "fat16", "fat32"])("FAT against the tools' truth: %s", (name) => {
  const truth = readTruth(name);
  const entries = truth.entries as FatEntry[];
  const disk = imageSource(name);
  const copies = copiesAt(disk, truth.volume.partitionOffset);
  const byEntry = new Map(copies.map((copy) => [Number(copy.reference.split(" ").pop()), copy]));
  const copyOf = (entry: FatEntry): Copy | undefined => byEntry.get(entry.dirEntry?.imageOffset ?? -1);
  const of = (state: string, type = "file") => entries.filter((entry) => entry.state.split(":")[0] === state && entry.type === type);

  it("is recognised for what it is", () => {
    const report = inspectDisk(disk).volumes.find((volume) => volume.offset === truth.volume.partitionOffset);
    expect([report?.filesystem, report?.clusterSize]).toEqual([name, truth.volume.clusterSize]);
  });

  it("lists every live file and folder by its path, byte for byte, and no other", () => {
    const live = new Map(copies.filter((copy) => copy.state === "live").map((copy) => [copy.path.normalize("NFC"), copy]));
    const wrong = of("live").filter((entry) => {
      const copy = live.get(pathOf(entry));
      return copy?.condition !== "whole" || copy.size !== entry.size || contentHash(copy, disk) !== entry.sha256;
    });
    expect(of("live").length).toBeGreaterThan(25);
    expect(wrong.map((entry) => entry.path)).toEqual([]);
    expect([...live.keys()].sort()).toEqual([...of("live"), ...of("live", "dir")].map(pathOf).sort());
  });

  it("gives dates as the tools do", () => {
    for (const entry of of("live").filter((each) => each.times && copyOf(each))) {
      const stored = (entry.times?.modified ?? "").slice(0, 19);
      expect(new Date(copyOf(entry)?.modified ?? 0).toISOString().slice(0, 19), entry.path).toBe(stored);
    }
  });

  it("lists every deleted file whose entry is kept, the intact ones byte for byte, those with long names by their full names", () => {
    for (const entry of [...of("deleted-intact"), ...of("deleted-partial"), ...of("deleted-gone")].filter((each) => each.dirEntry?.kept)) {
      const copy = copyOf(entry);
      expect(copy?.state, entry.path).toBe("deleted");
      const wanted = entry.path.split("/").pop() as string;
      if (entry.longName !== false && copy?.name !== `_${wanted.slice(1)}`)
        expect(copy?.name.normalize("NFC")).toBe(wanted.replace(" (earlier file of this name)", "").normalize("NFC"));
      if (entry.state === "deleted-intact" && entry.contiguous) expect(contentHash(copy as Copy, disk), entry.path).toBe(entry.sha256);
    }
  });

  it("calls nothing whole that is not", () => {
    const sound = new Set(entries.filter((entry) => /^(live|deleted-intact)/.test(entry.state)).map((entry) => entry.sha256));
    const claimed = copies.filter((copy) => copy.type === "file" && copy.size > 0 && copy.condition === "whole");
    expect(claimed.filter((copy) => !sound.has(contentHash(copy, disk) ?? "")).map((copy) => copy.path)).toEqual([]);
    expect(claimed.some((copy) => copy.state === "deleted")).toBe(true);
  });
});

describe("a damaged FAT volume", () => {
  const image = () => Uint8Array.from(fixture("fat32.img.gz"));
  const { partitionOffset } = readTruth("fat32").volume;
  const hashes = (bytes: Uint8Array) => {
    const disk = new MemorySource(bytes);
    return copiesAt(disk, partitionOffset)
      .filter((copy) => copy.state === "live" && copy.layout)
      .map(
        (copy) =>
          `${copy.path} ${createHash("sha256")
            .update(readBytes(new LayoutSource(disk, copy.layout as NonNullable<Copy["layout"]>), 0, copy.size))
            .digest("hex")}`,
      );
  };

  it("whose boot sector is gone is read by its copy, and one whose first table is gone by the second", { tags: "long" }, () => {
    const whole = hashes(image());
    const boot = image();
    boot.fill(0, partitionOffset, partitionOffset + 512);
    expect(hashes(boot)).toEqual(whole);
    const table = image();
    const reserved = new DataView(table.buffer).getUint16(partitionOffset + 14, true) * 512;
    table.fill(0, partitionOffset + reserved, partitionOffset + reserved + 65_536);
    expect(hashes(table)).toEqual(whole);
    expect(inspectDisk(new MemorySource(table)).volumes[0]?.notes.join()).toContain("first copy of the allocation table is damaged");
  });

  it("whose tables differ is read by the first, and the difference is reported in clusters", { tags: "long" }, () => {
    const bytes = image();
    const view = new DataView(bytes.buffer);
    const second = partitionOffset + view.getUint16(partitionOffset + 14, true) * 512 + view.getUint32(partitionOffset + 36, true) * 512;
    const whole = hashes(image());
    for (const cluster of [70, 71, 900]) view.setUint32(second + cluster * 4, 0x0ff0_0000, true);
    expect(hashes(bytes)).toEqual(whole);
    expect(inspectDisk(new MemorySource(bytes)).volumes[0]?.notes.join()).toContain("differ in 3 clusters; the first was used");
  });
});

describe("FAT entries", () => {
  it("have the checksum of the specification's own routine", () => {
    // The C routine ChkSum() of the specification, in its own words: sum = ((sum & 1) ? 0x80 : 0) + (sum >> 1) + *name++.
    const reference = (name: string) => {
      let sum = 0;
      for (const character of name) sum = (((sum & 1) !== 0 ? 0x80 : 0) + (sum >> 1) + character.charCodeAt(0)) % 256;
      return sum;
    };
    for (const name of ["FRAGME~1LOG", "README  TXT", "A          "])
      expect(shortNameChecksum(Buffer.from(name, "latin1"))).toBe(reference(name));
  });

  it("never crash the reader, whatever they hold", () => {
    const random = seeded(11);
    for (let round = 0; round < 3000; round += 1) {
      const bytes = Uint8Array.from({ length: 32 * (1 + Math.floor(random() * 12)) }, () =>
        random() < 0.3 ? 0x0f : Math.floor(random() * 256),
      );
      for (const entry of readDirectory(bytes, true).entries) expect(entry.name.length).toBeGreaterThan(0);
    }
  });

  it("have dates as in the specification: 1980-01-01 is day 33, and what does not exist is no date", () => {
    expect(dosTimeToMs(33, 0, 0)).toBe(Date.UTC(1980, 0, 1));
    expect(dosTimeToMs(0xff9f, 0xbf7d, 199)).toBe(Date.UTC(2107, 11, 31, 23, 59, 58) + 1990);
    for (const [date, time] of [
      [0, 0],
      [0x01a1, 0],
      [33, 0xf800],
    ] as const)
      expect(dosTimeToMs(date, time, 0)).toBeNull();
  });
});

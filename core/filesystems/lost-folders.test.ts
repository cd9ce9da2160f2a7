import { describe, expect, it } from "vitest";
import { contentHash, fixture, imageSource, pathOf, readTruth, type TrueEntry } from "../../tests/support/volume-truth";
import { type ByteSource, MemorySource, readBytes } from "../bytes/byte-source";
import { LayoutSource } from "../bytes/layout";
import type { Copy } from "../copies/copy";
import { fileRecordsPass, leftoversPass } from "../copies/file-records-pass";
import { inspectDisk, openVolume } from "../volumes/inspect";

interface Entry extends TrueEntry {
  firstOffset?: number;
  extents?: [number, number, number][];
  dirEntry?: { imageOffset: number; kept: boolean };
}

function open(disk: ByteSource, offset: number) {
  const report = inspectDisk(disk).volumes.find((each) => each.offset === offset);
  if (!report) throw new Error("no volume");
  return openVolume(disk, report);
}
const leftovers = (disk: ByteSource, offset: number): Copy[] =>
  [...leftoversPass(open(disk, offset), disk)].flatMap((batch) => batch.copies);
const records = (disk: ByteSource, offset: number): Copy[] =>
  [...fileRecordsPass(open(disk, offset), disk)].flatMap((batch) => batch.copies);
const truthOf = (name: string) => {
  const truth = readTruth(name);
  return { offset: truth.volume.partitionOffset, clusterSize: truth.volume.clusterSize, entries: truth.entries as Entry[] };
};

describe("a camera card formatted again", () => {
  const { offset, entries } = truthOf("camera-formatted");
  const disk = imageSource("camera-formatted");
  const found = leftovers(disk, offset);

  it("gives back every picture that is still there, in its folder, whole and byte for byte", () => {
    const intact = entries.filter((entry) => entry.type === "file" && entry.state === "lost-format-intact");
    expect(intact.length).toBe(9);
    for (const entry of intact) {
      const copy = found.find((each) => each.path === pathOf(entry));
      expect([copy?.place, copy?.condition, copy && contentHash(copy, disk)], entry.path).toEqual([
        "leftover-record",
        // What is coded in films is not followed: of them nothing is promised, but the bytes are right.
        /\.(MOV|MP4)$/.test(entry.path) ? "not-checked" : "whole",
        entry.sha256,
      ]);
    }
  });

  it("names the folders whose entries are gone by the rules cameras follow, and says so", () => {
    const folders = found.filter((copy) => copy.type === "folder");
    expect(folders.map((copy) => copy.path).sort()).toEqual(["/DCIM", "/DCIM/100LUMOR", "/MISC"]);
    expect(folders.find((copy) => copy.path === "/DCIM")?.notes.join()).toContain("by the rule cameras follow");
  });

  it("with new pictures over its old folders claims nothing that is not there", () => {
    const reused = truthOf("camera-formatted-reused");
    const image = imageSource("camera-formatted-reused");
    const sound = new Set(reused.entries.filter((entry) => /^(live|lost-format-intact)/.test(entry.state)).map((entry) => entry.sha256));
    const whole = leftovers(image, reused.offset).filter((copy) => copy.type === "file" && copy.size > 0 && copy.condition === "whole");
    expect(whole.filter((copy) => !sound.has(contentHash(copy, image) ?? "")).map((copy) => copy.path)).toEqual([]);
  });

  it("formatted with clusters of another size: the old folders still show their own measures", () => {
    const bytes = new Uint8Array(fixture("camera-formatted.img.gz"));
    const view = new DataView(bytes.buffer);
    // The same volume, as if it had been formatted with clusters twice as large: sectors in a cluster, and a table half as long.
    for (const at of [offset, offset + 6 * 512]) {
      view.setUint8(at + 13, view.getUint8(at + 13) * 2);
      view.setUint32(at + 36, Math.ceil(view.getUint32(at + 36, true) / 2), true);
    }
    const image = new MemorySource(bytes);
    const again = leftovers(image, offset);
    const intact = entries.filter((entry) => entry.type === "file" && entry.state === "lost-format-intact" && entry.extents?.length === 1);
    for (const entry of intact) {
      const copy = again.find((each) => each.path.endsWith(`/${entry.path.split("/").pop()}`) && contentHash(each, image) === entry.sha256);
      expect(copy, entry.path).toBeDefined();
    }
  });
});

describe("exFAT folders nothing leads to", () => {
  it("are found, and their files come out byte for byte", () => {
    const { offset, entries } = truthOf("exfat");
    const disk = imageSource("exfat");
    const found = leftovers(disk, offset);
    const inside = entries.filter(
      (entry) => entry.type === "file" && entry.state === "deleted-intact" && entry.path.startsWith("Ordner weg/"),
    );
    expect(inside.length).toBe(12);
    for (const entry of inside) {
      const name = entry.path.split("/").pop();
      const copy = found.find((each) => each.path.endsWith(`/${name}`) && contentHash(each, disk) === entry.sha256);
      // Nothing but its content could say that no file without a trace was written over it.
      expect([copy?.condition, copy?.path.startsWith("/?/")], entry.path).toEqual(["not-checked", true]);
    }
  });
});

describe("what does not add up on a FAT volume", () => {
  const { offset, clusterSize, entries } = truthOf("fat16");
  const live = entries.filter(
    (entry) => entry.type === "file" && entry.state === "live" && entry.dirEntry && (entry.size ?? 0) > 3 * clusterSize,
  );
  const [victim, other] = live as [Entry, Entry];
  const image = () => {
    const bytes = new Uint8Array(fixture("fat16.img.gz"));
    const view = new DataView(bytes.buffer, offset);
    const fatAt = offset + view.getUint16(14, true) * view.getUint16(11, true);
    return { bytes, view, fatAt, fatBytes: view.getUint16(22, true) * view.getUint16(11, true) };
  };

  it("nothing, where the tools left it in order", () => {
    for (const name of ["fat12", "fat16", "fat32", "exfat"])
      expect(open(imageSource(name), truthOf(name).offset).findings?.(), name).toEqual([]);
  });

  it("a chain no folder leads to is counted, and brought up as a file with the bytes of the one it was", () => {
    const { bytes } = image();
    const entryAt = victim.dirEntry?.imageOffset as number;
    const first = bytes.slice(entryAt + 26, entryAt + 28);
    // The entry is gone for good, as another one was written over it.
    bytes.fill(0xe5, entryAt, entryAt + 1);
    bytes.fill(0, entryAt + 26, entryAt + 32);
    const disk = new MemorySource(bytes);
    const cluster = (first[0] as number) + (first[1] as number) * 256;
    const chain = leftovers(disk, offset).find((copy) => copy.path === `/?/chain-${cluster}`) as Copy;
    const content = new LayoutSource(disk, chain.layout as NonNullable<Copy["layout"]>);
    expect(contentHash({ ...chain, layout: { size: victim.size ?? 0, segments: chain.layout?.segments ?? [] } }, disk)).toBe(victim.sha256);
    expect(content.size % clusterSize).toBe(0);
    const finding = open(disk, offset)
      .findings?.()
      .find((each) => each.what.includes("no file or folder leads to"));
    expect(finding?.count).toBe(Math.ceil((victim.size ?? 0) / clusterSize));
  });

  it("clusters two files claim, and a chain that breaks off, are reported with the files they concern", () => {
    const { bytes, fatAt, fatBytes } = image();
    const table = new DataView(bytes.buffer, fatAt);
    const firstOf = (entry: Entry) => new DataView(bytes.buffer).getUint16((entry.dirEntry?.imageOffset ?? 0) + 26, true);
    for (const copy of [0, fatBytes]) {
      // The second cluster of the one becomes the other's; the chain of the first goes nowhere.
      table.setUint16(copy + firstOf(victim) * 2, firstOf(other), true);
    }
    const findings = open(new MemorySource(bytes), offset).findings?.() ?? [];
    const crossed = findings.find((finding) => finding.what.startsWith("Clusters that two files claim"));
    expect(crossed?.count).toBeGreaterThan(0);
    expect(findings.some((finding) => finding.what.includes("no file or folder leads to"))).toBe(true);
  });
});

describe("a deleted FAT32 entry without the upper half of its first cluster", () => {
  it("is tried at each place it may have begun; the content decides", () => {
    const { offset, clusterSize, entries } = truthOf("fat32");
    const bytes = new Uint8Array(fixture("fat32.img.gz"));
    const view = new DataView(bytes.buffer);
    const dataAt = offset + view.getUint16(offset + 14, true) * 512 + 2 * view.getUint32(offset + 36, true) * 512;
    const source = entries.find((entry) => entry.state === "live" && /\.png$/i.test(entry.path) && entry.extents?.length === 1) as Entry;
    const length = Math.ceil((source.size ?? 0) / clusterSize) * clusterSize;
    // A deleted file with the bytes of a live one at cluster 66,000; its entry keeps only the lower half: 464.
    const at = dataAt + (66_000 - 2) * clusterSize;
    bytes.copyWithin(at, source.firstOffset ?? 0, (source.firstOffset ?? 0) + length);
    const entryAt = source.dirEntry?.imageOffset as number;
    const root = view.getUint32(offset + 44, true);
    const rootAt = dataAt + (root - 2) * clusterSize;
    let free = rootAt;
    while (bytes[free] !== 0 && bytes[free] !== 0xe5) free += 32;
    bytes.copyWithin(free, entryAt, entryAt + 32);
    bytes[free] = 0xe5;
    view.setUint16(free + 20, 0, true);
    view.setUint16(free + 26, 66_000 - 65_536, true);
    const disk = new MemorySource(bytes);
    const copy = records(disk, offset).find((each) => each.reference === `directory entry at byte ${free}`) as Copy;
    expect([copy.state, copy.condition, contentHash(copy, disk)]).toEqual(["deleted", "whole", source.sha256]);
    expect(copy.notes.join()).toContain("taken to have begun at cluster 66000");
    expect(readBytes(new LayoutSource(disk, copy.layout as NonNullable<Copy["layout"]>), 0, 4)[1]).toBe(0x50);
  });
});

import { createHash } from "node:crypto";
import { describe, expect, it } from "vitest";
import { SMALL_NTFS, smallDisk } from "../../../tests/support/small-disk";
import { readTruth, type TrueEntry } from "../../../tests/support/volume-truth";
import { MemorySource, readBytes } from "../../bytes/byte-source";
import { LayoutSource } from "../../bytes/layout";
import { leftoversPass } from "../../copies/file-records-pass";
import { openNtfs } from "./ntfs";

type Placed = TrueEntry & { extents?: [number, number, number][]; mft?: { imageOffset?: number } };

/** Live files of the volume that lie in one piece of their own clusters. */
const files = (readTruth("small-mbr").entries as Placed[]).filter(
  (entry) =>
    entry.type === "file" &&
    entry.state === "live" &&
    entry.volume === undefined &&
    !entry.resident &&
    !entry.compressed &&
    entry.extents?.length === 1 &&
    Number(entry.size) > 0 &&
    entry.mft?.imageOffset,
);
const leftovers = (bytes: Uint8Array) => {
  const disk = new MemorySource(bytes);
  const volume = openNtfs(disk, SMALL_NTFS.offset, SMALL_NTFS.length);
  return {
    disk,
    volume,
    copies: [...leftoversPass(volume, disk)].flatMap((batch) => [...batch.copies]).filter((copy) => copy.name.startsWith("clusters-")),
  };
};

describe("clusters that no record claims", () => {
  it("are none where all records are sound", () => {
    const { copies, volume } = leftovers(smallDisk());
    expect(copies).toEqual([]);
    expect(volume.findings?.()).toEqual([]);
  });

  it("bring up the content of files whose records are gone, byte for byte", () => {
    const chosen = files.filter((_, index) => index % 9 === 0);
    expect(chosen.length).toBeGreaterThan(4);
    const { disk, copies, volume } = leftovers(
      smallDisk(chosen.map((entry): [number, number] => [entry.mft?.imageOffset as number, 1024])),
    );
    for (const entry of chosen) {
      const [, at = 0, length = 0] = entry.extents?.[0] ?? [];
      // Files that lay side by side come as one stretch.
      const copy = copies.find((each) =>
        each.layout?.segments.some((segment) => segment.kind === "disk" && segment.at <= at && segment.at + segment.length >= at + length),
      );
      expect(copy, entry.path).toBeDefined();
      const segment = copy?.layout?.segments[0];
      const from = at - (segment?.kind === "disk" ? segment.at : 0);
      const content = readBytes(new LayoutSource(disk, copy?.layout as never), from, entry.size as number);
      expect(createHash("sha256").update(content).digest("hex")).toBe(entry.sha256);
      expect(copy?.condition === "whole" ? copy.evidence.content?.finding : "not promised").toMatch(/agrees|not promised/);
    }
    expect(volume.findings?.().some((finding) => finding.what.includes("no file claims"))).toBe(true);
  });

  it("keep to the part of the volume that was asked for", () => {
    const [entry] = files;
    const disk = new MemorySource(smallDisk([[entry?.mft?.imageOffset as number, 1024]]));
    const volume = openNtfs(disk, SMALL_NTFS.offset, SMALL_NTFS.length);
    const at = (entry?.extents?.[0]?.[1] as number) - SMALL_NTFS.offset;
    const found = (start: number, end: number) =>
      [...leftoversPass(volume, disk, null, 512, { start, end })].flatMap((batch) =>
        batch.copies.filter((copy) => copy.name.startsWith("clusters-")),
      ).length;
    expect(found(at, at + 1)).toBe(1);
    expect(found(0, at)).toBe(0);
  });
});

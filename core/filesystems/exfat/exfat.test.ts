import { describe, expect, it } from "vitest";
import { seeded } from "../../../demo/draw";
import { contentHash, copiesAt, fixture, imageSource, pathOf, readTruth, type TrueEntry } from "../../../tests/support/volume-truth";
import { MemorySource } from "../../bytes/byte-source";
import type { Copy } from "../../copies/copy";
import { inspectDisk } from "../../volumes/inspect";
import { readExfatDirectory, setChecksum } from "./entry-set";

interface ExfatEntry extends TrueEntry {
  dirEntry?: { imageOffset: number; kept: boolean; noFatChain: boolean };
}

const truth = readTruth("exfat");
const entries = truth.entries as ExfatEntry[];
const { partitionOffset } = truth.volume;

describe("exFAT against the drivers' truth", () => {
  const disk = imageSource("exfat");
  const copies = copiesAt(disk, partitionOffset);
  const byEntry = new Map(copies.map((copy) => [Number(copy.reference.split(" ").pop()), copy]));
  // The manifest points at the stream extension, which follows the file's own entry.
  const copyOf = (entry: ExfatEntry): Copy | undefined => byEntry.get((entry.dirEntry?.imageOffset ?? 0) - 32);
  const of = (state: string, type = "file") => entries.filter((entry) => entry.state.split(":")[0] === state && entry.type === type);

  it("lists every live file and folder by its path, byte for byte, and no other", () => {
    const live = new Map(copies.filter((copy) => copy.state === "live").map((copy) => [copy.path.normalize("NFC"), copy]));
    const wrong = of("live").filter((entry) => {
      const copy = live.get(pathOf(entry));
      return copy?.condition !== "whole" || copy.size !== entry.size || contentHash(copy, disk) !== entry.sha256;
    });
    expect(of("live").length).toBeGreaterThan(150);
    expect(wrong.map((entry) => entry.path)).toEqual([]);
    expect([...live.keys()].sort()).toEqual([...of("live"), ...of("live", "dir")].map(pathOf).sort());
  });

  it("gives dates in UTC, as the driver does", () => {
    for (const entry of of("live").filter((each) => each.times && copyOf(each)))
      expect(new Date(copyOf(entry)?.modified ?? 0).toISOString().slice(0, 19), entry.path).toBe(
        (entry.times?.modified ?? "").slice(0, 19),
      );
  });

  it("lists every deleted file by its full name; what its entry says is in one stretch comes out byte for byte", () => {
    // What lay in a folder whose own entry was used again is described by no entry any more.
    const folders = new Set(["", ...copies.filter((copy) => copy.type === "folder").map((copy) => copy.path.normalize("NFC"))]);
    const parent = (entry: ExfatEntry) => pathOf(entry).split("/").slice(0, -1).join("/");
    const dead = entries.filter(
      (entry) => entry.type === "file" && entry.state.startsWith("deleted") && entry.dirEntry?.kept && folders.has(parent(entry)),
    );
    expect(dead.length).toBeGreaterThan(40);
    for (const entry of dead) {
      const copy = copyOf(entry);
      expect([copy?.state, copy?.name.normalize("NFC")], entry.path).toEqual(["deleted", pathOf(entry).split("/").pop()]);
      if (entry.state !== "deleted-intact" || !entry.dirEntry?.noFatChain) continue;
      expect(contentHash(copy as Copy, disk), entry.path).toBe(entry.sha256);
      expect(["whole", "not-checked"], entry.path).toContain(copy?.condition);
    }
  });

  it("calls nothing whole that is not", () => {
    const sound = new Set(entries.filter((entry) => /^(live|deleted-intact)/.test(entry.state)).map((entry) => entry.sha256));
    const claimed = copies.filter((copy) => copy.type === "file" && copy.size > 0 && copy.condition === "whole");
    expect(claimed.filter((copy) => !sound.has(contentHash(copy, disk) ?? "")).map((copy) => copy.path)).toEqual([]);
  });

  it("is read by the copy of its boot sector when the first is gone, and says so", () => {
    const bytes = Uint8Array.from(fixture("exfat.img.gz"));
    bytes.fill(0, partitionOffset, partitionOffset + 512);
    const damaged = new MemorySource(bytes);
    expect(copiesAt(damaged, partitionOffset).map((copy) => copy.path)).toEqual(copies.map((copy) => copy.path));
    expect(inspectDisk(damaged).volumes[0]?.notes.join()).toContain("sector 12");
  });
});

describe("exFAT entry sets", () => {
  it("have the checksum of the specification's own routine (section 6.3.3, figure 2)", () => {
    const set = Buffer.from("850201020000000000000000000000000000000000000000000000000000000000".slice(0, 64), "hex");
    let expected = 0;
    set.forEach((byte, index) => {
      if (index === 2 || index === 3) return;
      expected = (((expected & 1) !== 0 ? 0x8000 : 0) + (expected >> 1) + byte) & 0xffff;
    });
    expect(setChecksum(set)).toBe(expected);
  });

  it("never crash the reader, whatever they hold", () => {
    const random = seeded(17);
    for (let round = 0; round < 3000; round += 1) {
      const bytes = Uint8Array.from({ length: 32 * (1 + Math.floor(random() * 12)) }, (_, at) =>
        at % 32 === 0 ? ([0x85, 0x05, 0xc0, 0x40, 0xc1][Math.floor(random() * 5)] as number) : Math.floor(random() * 256),
      );
      expect(readExfatDirectory(bytes).entries.length).toBeLessThanOrEqual(12);
    }
  });
});

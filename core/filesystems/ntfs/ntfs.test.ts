import { describe, expect, it } from "vitest";
import { contentHash, copiesAt, imageSource, pathOf, readTruth, type TrueEntry } from "../../../tests/support/volume-truth";
import type { Copy } from "../../copies/copy";

/** What the records themselves do not say, by the manifest's own account: the record was reused, or the name is gone. */
const isRecorded = (entry: TrueEntry) => !entry.mft?.recordReused && entry.mft?.nameStillInRecord !== false;

describe.each(["ntfs-gpt", "ntfs-mbr", "ntfs-4kn"])("NTFS against the drivers' truth: %s", (name) => {
  const truth = readTruth(name);
  const disk = imageSource(name);
  const copies = copiesAt(disk, truth.volume.partitionOffset);
  const byPath = new Map<string, Copy[]>();
  for (const copy of copies) {
    const key = `${copy.state} ${copy.path.normalize("NFC")}`;
    byPath.set(key, [...(byPath.get(key) ?? []), copy]);
  }
  const find = (state: string, entry: TrueEntry): Copy | undefined => {
    const found = byPath.get(`${state} ${pathOf(entry)}`) ?? [];
    return found.find((copy) => contentHash(copy, disk) === entry.sha256) ?? found[0];
  };
  const of = (state: string, type = "file") => truth.entries.filter((entry) => entry.state.split(":")[0] === state && entry.type === type);

  it("lists every live file, byte for byte", () => {
    const wrong = of("live").filter((entry) => {
      const copy = find("live", entry);
      return !copy || copy.size !== entry.size || copy.condition !== "whole" || contentHash(copy, disk) !== entry.sha256;
    });
    expect(of("live").length).toBeGreaterThan(150);
    expect(wrong.map((entry) => entry.path)).toEqual([]);
  });

  it("lists every live folder, and nothing that is not on the volume", () => {
    expect(of("live", "dir").filter((entry) => find("live", entry)?.type !== "folder")).toEqual([]);
    const known = new Set(truth.entries.map(pathOf));
    const invented = copies.filter((copy) => !copy.system && copy.state === "live" && !known.has(copy.path.normalize("NFC")));
    expect(invented.map((copy) => copy.path)).toEqual([]);
  });

  it("lists every deleted file whose record and content are there by its full path, whole and byte for byte", () => {
    // Where a folder above was reused, the path begins with /?/ and the rest is still right.
    const recorded = of("deleted-intact").filter((entry) => isRecorded(entry) && entry.mft?.parentLive !== false);
    const wrong = recorded.filter((entry) => {
      const copy = find("deleted", entry) ?? copies.find((each) => each.path === `/?/${entry.path.split("/").at(-1)}`);
      return copy?.condition !== "whole" || copy.survival !== 1 || contentHash(copy, disk) !== entry.sha256;
    });
    expect(recorded.length).toBeGreaterThan(50);
    expect(wrong.map((entry) => entry.path)).toEqual([]);
  });

  it("flags every partly overwritten file, with about the share the maker measured", () => {
    for (const entry of of("deleted-partial").filter(isRecorded)) {
      const copy = find("deleted", entry);
      expect(copy?.condition, entry.path).toBe("partial");
      // Clusters against bytes: the last cluster is seldom full.
      expect(Math.abs((copy?.survival ?? 0) - Number(entry.state.split(":")[1]))).toBeLessThan(0.06);
    }
  });

  it("calls no file whole that is not", () => {
    const sound = new Set(
      truth.entries.filter((entry) => /^(live|deleted-intact|link-removed)/.test(entry.state)).map((entry) => entry.sha256),
    );
    const claimed = copies.filter((copy) => copy.type === "file" && !copy.system && copy.size > 0 && copy.condition === "whole");
    expect(claimed.filter((copy) => !sound.has(contentHash(copy, disk) ?? "")).map((copy) => copy.path)).toEqual([]);
  });

  it("gives sizes and dates as the driver does", () => {
    for (const entry of of("live").filter((each) => each.times)) {
      const copy = find("live", entry);
      expect(copy?.modified, entry.path).toBe(Math.floor(Date.parse(`${(entry.times?.modified ?? "").slice(0, 23)}Z`)));
      expect(copy?.created, entry.path).toBe(Math.floor(Date.parse(`${(entry.times?.created ?? "").slice(0, 23)}Z`)));
    }
  });

  it("gives no name of a record twice", () => {
    const paths = copies.map((copy) => `${copy.reference} ${copy.path}`);
    expect(new Set(paths).size).toBe(paths.length);
  });
});

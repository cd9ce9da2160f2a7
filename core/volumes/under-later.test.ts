import { describe, expect, it } from "vitest";
import { drivenOverBy } from "../../tests/support/driven-volumes";
import { copiesOf, hashOf } from "../../tests/support/mac-truth";
import { fileRecordsPass } from "../copies/file-records-pass";
import { inspectDisk, openVolume, type VolumeReport } from "./inspect";
import { underLater } from "./under-later";

describe.each(drivenOverBy("fat-over-ntfs", "ntfs-over-hfsplus"))("$name: $truth.form", ({ name, truth, open }) => {
  const disk = open();
  const [present, earlier] = inspectDisk(disk).volumes as [VolumeReport, VolumeReport];
  const ever = new Set([...Object.values(truth.history).flat(), ...truth.midway]);
  const later = { offset: present.offset, length: present.length, opened: openVolume(disk, present) };
  const copies = [...fileRecordsPass(underLater(openVolume(disk, earlier), [later]), disk)].flatMap((batch) => batch.copies);
  const isFile = ({ type, size, system }: (typeof copies)[number]) => type === "file" && size > 0 && !system;
  const isTrue = (copy: (typeof copies)[number]) => ever.has(hashOf(copy.layout, disk) ?? "");
  const files = copies.filter(isFile);

  it("finds the earlier volume, and says what lies over it", () => {
    expect([present.standing, present.over]).toEqual(["present", []]);
    expect([earlier.filesystem, earlier.standing]).toEqual([name.split("-").at(-1), "earlier"]);
    expect(earlier.over.map(({ filesystem, offset }) => [filesystem, offset])).toEqual([[present.filesystem, present.offset]]);
  });

  it("has no live file on the earlier one, and calls none whole whose bytes no file ever had", () => {
    // Its own records know nothing of what came later.
    const bySelf = copiesOf(disk, earlier, false).filter((copy) => isFile(copy) && copy.condition === "whole" && !isTrue(copy));
    expect(bySelf.length).toBeGreaterThan(3);
    expect(copies.filter(({ state }) => state === "live")).toEqual([]);
    expect(files.filter((copy) => copy.condition === "whole" && !isTrue(copy)).map(({ path }) => path)).toEqual([]);
  });

  it("gives what was not written over, and says what was", () => {
    const standing = files.filter(isTrue);
    expect(standing.length).toBeGreaterThan(3);
    expect(standing.filter(({ condition }) => condition === "name-only").map(({ path }) => path)).toEqual([]);
    // What is held in a record is there with it; records of a Mac's volumes hold no content.
    expect(standing.some(({ condition }) => condition === "whole")).toBe(earlier.filesystem === "ntfs");
    const over = files.filter((copy) => copy.evidence.usedByOthers > 0);
    expect(over.length).toBeGreaterThan(3);
    expect(over.every(({ condition }) => condition === "partial" || condition === "name-only")).toBe(true);
    const segments = over.flatMap(({ layout }) => layout?.segments ?? []);
    expect(segments.some((segment) => segment.kind === "disk" && segment.foreign)).toBe(true);
  });
});

import { describe, expect, it } from "vitest";
import { type ListedFile, toListRow } from "./file-list";
import { limitsOf } from "./file-system-limits";

const file = (more: Partial<ListedFile>): ListedFile => ({
  written: "Documents/plan.txt",
  path: "/Users/rowan/plan.txt",
  rawName: "706c616e",
  size: 12,
  sha256: "ab",
  condition: "whole",
  gaps: null,
  asFound: false,
  leftBehind: [],
  remark: null,
  ...more,
});

describe("the list beside files", () => {
  it("says where a file stood, how it was called as stored, and what it is now", () => {
    expect(toListRow(file({}))).toEqual({
      "written as": "Documents/plan.txt",
      "original path": "/Users/rowan/plan.txt",
      "name as stored, hex": "706c616e",
      bytes: "12",
      "sha-256": "ab",
      condition: "whole",
      "missing bytes": "0",
      "left behind": "",
      remark: "",
    });
  });

  it("names what is missing, in numbers and in words, and claims none missing where nothing was written", () => {
    const gaps = { unreadable: [{ start: 2, end: 5 }], foreign: [{ start: 8, end: 9 }] };
    const row = toListRow(file({ gaps, remark: "Chosen by hand." }));
    expect(row["missing bytes"]).toBe("4");
    expect(row.remark).toMatch(/^Chosen by hand\. 3 bytes could not be read and are zeros; 1 byte belong/);
    expect(toListRow(file({ gaps, asFound: true })).remark).toContain("what stands there today");
    expect(toListRow(file({ written: null, sha256: null, remark: "Its content cannot be read." }))).toMatchObject({
      "written as": "",
      "sha-256": "",
      "missing bytes": "",
      remark: "Its content cannot be read.",
    });
  });
});

describe("what file systems hold", () => {
  // "FAT32 File System Specification": the file size is 32 bits wide, times count two seconds.
  it("FAT takes files of up to 4 GiB less one byte, to two seconds, and knows no links", () => {
    for (const name of ["vfat", "msdos"]) expect(limitsOf(name)).toMatchObject({ largestFile: 0xffff_ffff, timeGrain: 2000, links: false });
  });

  it("says nothing of those it does not know, nor of names that objects have by themselves", () => {
    for (const name of ["overlay", "", "toString", "__proto__", "constructor"]) expect(limitsOf(name)).toBeNull();
  });
});

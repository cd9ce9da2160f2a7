import { mkdirSync, mkdtempSync, realpathSync, symlinkSync, writeFileSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { beforeEach, describe, expect, it } from "vitest";
import { freeBytesIn, refusal } from "../restores/delivery";
import { browse, liesWithin, permittedSource } from "./source-folders";

let work: string;
beforeEach(() => {
  work = realpathSync(mkdtempSync(join(tmpdir(), "compass-folders-")));
  for (const folder of ["sources/inner", "delivery", "elsewhere"]) mkdirSync(join(work, folder), { recursive: true });
  writeFileSync(join(work, "sources/b.img"), "b");
  writeFileSync(join(work, "sources/inner/a.img"), "a");
  writeFileSync(join(work, "sources/.hidden"), "h");
  writeFileSync(join(work, "elsewhere/secret.img"), "s");
  process.env.COMPASS_SOURCES = join(work, "sources");
  process.env.COMPASS_DELIVERY = join(work, "delivery");
});

describe("lying within a folder", () => {
  it.each([
    ["/a/b", "/a", true],
    ["/a", "/a", true],
    ["/ab", "/a", false],
    ["/a/..b", "/a", true],
    ["/", "/a", false],
  ])("%s in %s: %s", (path, folder, within) => {
    expect(liesWithin(path, folder)).toBe(within);
  });
});

describe("the source folders", () => {
  it("are browsed, folders first, hidden files left out, and no further up than themselves", () => {
    const top = browse(join(work, "sources"));
    expect(top.entries.map((entry) => entry.name)).toEqual(["inner", "b.img"]);
    expect(top.parent).toBeNull();
    expect(browse(join(work, "sources/inner")).parent).toBe(join(work, "sources"));
  });

  it("give nothing outside, neither by a path with dots nor through a link", () => {
    expect(permittedSource(join(work, "sources/inner/../b.img"))).toBe(join(work, "sources/b.img"));
    symlinkSync(join(work, "elsewhere/secret.img"), join(work, "sources/link.img"));
    for (const path of ["sources/../elsewhere/secret.img", "sources/link.img", "elsewhere"])
      expect(() => permittedSource(join(work, path)), path).toThrow("outside the source folders");
    expect(() => permittedSource(join(work, "sources/gone.img"))).toThrow("is not there");
  });

  it("say so when none of them exists", () => {
    process.env.COMPASS_SOURCES = join(work, "nowhere");
    expect(browse(null)).toMatchObject({ entries: [], problem: expect.stringContaining("None of the source folders") });
  });
});

describe("a destination", () => {
  it("is free below the delivery folder, and refused beside a source or where a link leads out", () => {
    const source = join(work, "sources/b.img");
    expect(refusal(join(work, "delivery/new/folder"), [source])).toBeNull();
    symlinkSync(join(work, "elsewhere"), join(work, "delivery/out"));
    expect(refusal(join(work, "delivery/out/folder"), [source])).toContain("outside the delivery folder");
    process.env.COMPASS_DELIVERY = join(work, "sources/inner");
    expect(refusal(join(work, "sources/inner/x"), [source])).toContain("lies beside the source");
    // A drive that is not connected now still must not be written to.
    expect(refusal(join(work, "sources/inner/x"), [join(work, "sources/gone.img")])).toContain("lies beside the source");
  });

  it("tells its free space, also of a folder still to be made", () => {
    expect(freeBytesIn(join(work, "delivery/a/b/c"))).toBeGreaterThan(0);
  });
});

import { strToU8 } from "fflate";
import { describe, expect, it } from "vitest";
import { bytesOf, places, told, treeOf } from "../../tests/support/placed-files";
import { readJumpList } from "./jump-list";
import { recentPaths } from "./property-list";
import { readShellLink } from "./shell-link";

describe("recent lists", () => {
  it("a shell link is read as the specification's example says ([MS-SHLLINK] 3.1), and as another reader does", () => {
    const link = readShellLink(bytesOf(places.link));
    expect(link).toEqual({
      target: "C:\\test\\a.txt",
      directory: false,
      size: 0,
      created: Date.UTC(2008, 8, 12, 20, 27, 17, 101),
      modified: Date.UTC(2008, 8, 12, 20, 27, 17, 101),
      serial: 0x307a8a81,
      label: null,
    });
    expect(places.linkSaid).toContain("C:\\test\\a.txt");
    expect(places.linkSaid).toMatch(/307a8a81/i);
    expect(places.linkSaid).toContain("Sep 12, 2008 20:27:17.101");
  });

  it("a jump list gives the links in its compound file, and those that stand one after the other", () => {
    expect(readJumpList(bytesOf(places.jumpList)).map((link) => link.target)).toEqual(["C:\\test\\a.txt", "C:\\test\\a.txt"]);
    const link = bytesOf(places.link);
    expect(readJumpList(Uint8Array.from([1, 2, 3, ...link, 0, 0, ...link])).length).toBe(2);
  });

  it("property lists of both kinds name the documents", () => {
    const expected = ["/Users/maribel/Documents/Harvest plan.docx", "/Users/maribel/Documents/Rules.pdf"];
    expect(recentPaths(bytesOf(places.recentBinary))).toEqual(expected);
    expect(recentPaths(bytesOf(places.recentXml))).toEqual(expected);
    expect(recentPaths(strToU8("no list"))).toEqual([]);
  });

  it("become items known by name, on the volume the link means", () => {
    const files = [{ path: "/Users/mo/AppData/Roaming/Recent/a.lnk", content: bytesOf(places.link) }];
    const [here] = told(treeOf(files, 0x307a8a81));
    expect([here?.place, here?.path, here?.condition]).toEqual(["recent", "/test/a.txt", "name-only"]);
    const [elsewhere] = told(treeOf(files, 0x12345678));
    expect(elsewhere?.path).toBe("/C_/test/a.txt");
    expect(elsewhere?.notes.join(" ")).toContain("307A8A81");
  });
});

import { strToU8 } from "fflate";
import { describe, expect, it, vi } from "vitest";
import { bytesOf, placedCopies, places, treeOf } from "../../tests/support/placed-files";
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

  it("property lists that another library wrote give local files alone, whatever their letters", () => {
    // Python 3.11, plistlib.dumps in both forms.
    const binary =
      "YnBsaXN0MDDTAQIDBA4SXxAPQ3VzdG9tTGlzdEl0ZW1zXxAPUmVjZW50RG9jdW1lbnRzUW6iBQrSBgcICVVBbGlhc1ROYW1lQnh4UWHSBwsMDVRQYXRoU3NreW8QGwAvAFUAcwBlAHIAcwAvAG0AbwAvAEQAZQBzAGsAdABvAHAALwBzAGsAeQAgAPwALgB0AHgAdKMPEBFfEC5maWxlOi8vL1VzZXJzL21vL0RvY3VtZW50cy9HYXJkZW4lMjBwbGFuLnBhZ2VzXxAYL1ZvbHVtZXMvU1RJQ0svbm90ZXMudHh0XxAVaHR0cHM6Ly9leGFtcGxlLm9yZy94oxMUFRABI0AEAAAAAAAACQAIAA8AIQAzADUAOAA9AEMASABLAE0AUgBXAFsAlACYAMkA5AD8AQABAgELAAAAAAAAAgEAAAAAAAAAFgAAAAAAAAAAAAAAAAAAAQw=";
    const xml = `<?xml version="1.0" encoding="UTF-8"?>
<!DOCTYPE plist PUBLIC "-//Maker//DTD PLIST 1.0//EN" "http://example.org/PropertyList-1.0.dtd">
<plist version="1.0"><dict><key>CustomListItems</key><array><dict><key>Alias</key><data>eHg=</data><key>Name</key><string>a</string></dict>
<dict><key>Name</key><string>sky</string><key>Path</key><string>/Users/mo/Desktop/sky ü.txt</string></dict></array><key>RecentDocuments</key><array>
<string>file:///Users/mo/Documents/Garden%20plan.pages</string><string>/Volumes/STICK/notes.txt</string><string>https://example.org/x</string></array>
<key>n</key><array><integer>1</integer><real>2.5</real><true/></array></dict></plist>`;
    // The XML library says each fault aloud.
    const quiet = vi.spyOn(console, "error").mockImplementation(() => undefined);
    const wanted = ["/Users/mo/Desktop/sky ü.txt", "/Users/mo/Documents/Garden plan.pages", "/Volumes/STICK/notes.txt"];
    for (const bytes of [Buffer.from(binary, "base64"), Buffer.from(xml)]) {
      expect(recentPaths(bytes).sort()).toEqual(wanted);
      // Damaged anywhere it gives paths or none, and never more than that.
      for (let at = 0; at < bytes.length; at += 3) {
        const hurt = Uint8Array.from(bytes);
        hurt[at] = (hurt[at] as number) ^ 0x55;
        for (const path of recentPaths(hurt)) expect(path.startsWith("/")).toBe(true);
        expect(() => recentPaths(hurt.subarray(0, at))).not.toThrow();
      }
    }
    quiet.mockRestore();
  });

  it("become items known by name, on the volume the link means", () => {
    const files = [{ path: "/Users/mo/AppData/Roaming/Recent/a.lnk", content: bytesOf(places.link) }];
    const [here] = placedCopies(treeOf(files, 0x307a8a81));
    expect([here?.place, here?.path, here?.condition]).toEqual(["recent", "/test/a.txt", "name-only"]);
    const [elsewhere] = placedCopies(treeOf(files, 0x12345678));
    expect(elsewhere?.path).toBe("/C_/test/a.txt");
    expect(elsewhere?.notes.join(" ")).toContain("307A8A81");
  });
});

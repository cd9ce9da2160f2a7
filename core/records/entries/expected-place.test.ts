import { describe, expect, it } from "vitest";
import { expectedPlace } from "./expected-place";

const PROFILE = "/Users/mo/AppData/Roaming/Members Chat";

describe("where a database expects a file", () => {
  it.each([
    // Paths with a drive's letter, both ways of writing the separator.
    ["C:\\Users\\mo\\Downloads\\rota.csv", "/Users/mo/Downloads", "rota.csv"],
    ["d:/USERS/Mo/Downloads/rota.csv", "/Users/mo/Downloads", "rota.csv"],
    ["C:\\Users\\mo\\AppData\\Roaming\\members chat\\media\\a.jpg", `${PROFILE}/media`, "a.jpg"],
    // POSIX paths.
    ["/Users/mo/Pictures/a b.png", "/Users/mo/Pictures", "a b.png"],
    // File URLs: the examples' forms are those of RFC 8089, 2 and appendix E.2.
    ["file:///Users/mo/a%20b.png", "/Users/mo", "a b.png"],
    ["file:///C:/Users/mo/caf%C3%A9.png", "/Users/mo", "café.png"],
    ["file://localhost/Users/mo/x.txt", "/Users/mo", "x.txt"],
    // Beside the database.
    ["received/a.jpg", `${PROFILE}/received`, "a.jpg"],
    ["received\\2026\\a.jpg", `${PROFILE}/received/2026`, "a.jpg"],
    ["./a.jpg", PROFILE, "a.jpg"],
    ["../Other/a.jpg", "/Users/mo/AppData/Roaming/Other", "a.jpg"],
  ])("%s", (written, folder, name) => expect(expectedPlace(written, PROFILE)).toEqual({ folder, name }));

  it.each([
    "D:\\Received\\rota.csv",
    "/media/stick/rota.csv",
    "\\\\server\\share\\rota.csv",
    "file://server/share/rota.csv",
    "file:///%E0%A4%A/x",
    "https://larkfield.example/a.jpg",
    "content://media/12",
    "C:rota.csv",
    "rota.csv",
    "C:\\Users\\mo\\",
    "../../../../../../etc/passwd",
    "C:\\Users\\..\\..\\x",
    "C:\\Users",
    "a\0b/c",
    `x/${"y".repeat(2000)}`,
    "a/".repeat(200),
    "",
  ])("is not known by %j", (written) => expect(expectedPlace(written, PROFILE)).toBeNull());

  it("is in the folder a whole drive was copied into, with the database in it", () => {
    const place = (written: string, folder: string) => expectedPlace(written, folder)?.folder;
    expect(place("C:\\Users\\mo\\Downloads\\a.jpg", "/Old laptop/Users/mo/AppData/Chat")).toBe("/Old laptop/Users/mo/Downloads");
    expect(place("/Users/mo/a.jpg", "/Users/shared/Users/mo/Chat")).toBe("/Users/shared/Users/mo");
    expect(place("/Users/ana/a.jpg", "/Users/mo/Copies/Users/mo/Chat")).toBe("/Users/ana");
  });

  it("is the root's own folders where the database stands in one of them, and none where it stands in the root", () => {
    expect(expectedPlace("/Chat/media/a.jpg", "/Chat")).toEqual({ folder: "/Chat/media", name: "a.jpg" });
    expect(expectedPlace("/Chat/media/a.jpg", "")).toBeNull();
    expect(expectedPlace("media/a.jpg", "")).toEqual({ folder: "/media", name: "a.jpg" });
  });

  it("never leaves the drive, whatever the row says", () => {
    const parts = ["..", ".", "a", "\\", "/", "C:", "Users", "%2e%2e", "file://", "\u202e", "~", "con"];
    let seed = 5;
    const pick = () => {
      seed = (seed * 1_103_515_245 + 12_345) % 2 ** 31;
      return parts[seed % parts.length] as string;
    };
    for (let i = 0; i < 20_000; i += 1) {
      const place = expectedPlace(Array.from({ length: 1 + (i % 9) }, pick).join(i % 2 ? "/" : ""), PROFILE);
      if (place) for (const part of [...place.folder.split("/").slice(1), place.name]) expect(["", ".", ".."]).not.toContain(part);
    }
  });
});

import fc from "fast-check";
import { describe, expect, it } from "vitest";
import { KINDS } from "../formats/format";
import { type ArrangedFile, arrange, LAYOUTS, NamePattern, PatternError } from "./arrange";
import { decodePath, encodePath, infoValue, oxumOf, parseManifest, writeInfo, writeManifest } from "./bagit";

const picture: ArrangedFile = {
  path: "/C:/Users/mo/Pictures/IMG_1.jpg",
  name: "IMG_1.jpg",
  kind: "pictures",
  modified: Date.UTC(2026, 2, 12, 9, 5, 6),
  taken: Date.UTC(2026, 2, 7, 22, 1, 2),
  camera: "Lark 2",
  title: "The Plough",
  number: 7,
};

describe("how restored files lie", () => {
  it.each([
    ["tree", ["C_", "Users", "mo", "Pictures", "IMG_1.jpg"]],
    ["flat", ["IMG_1.jpg"]],
    ["kind", ["Pictures", "IMG_1.jpg"]],
    ["date", ["2026", "2026-03-07", "IMG_1.jpg"]],
  ] as const)("%s", (layout, expected) => expect(arrange(picture, layout, null)).toEqual(expected));

  it("by date, a file that was never taken counts from its last change; one without dates is undated", () => {
    expect(arrange({ ...picture, taken: undefined }, "date", null).slice(0, 2)).toEqual(["2026", "2026-03-12"]);
    expect(arrange({ ...picture, taken: undefined, modified: null }, "date", null)).toEqual(["Undated", "IMG_1.jpg"]);
    expect(arrange({ ...picture, taken: Number.MAX_VALUE }, "date", null)).toEqual(["Undated", "IMG_1.jpg"]);
  });

  it.each([
    ["{date} {name}", "2026-03-07 IMG_1.jpg"],
    ["{number} {camera}", "0007 Lark 2.jpg"],
    ["{title}.{ext}", "The Plough.jpg"],
    ["{folder} {time}", "Pictures 22-01-02.jpg"],
    ["{year}", "2026.jpg"],
    ["a name", "a name.jpg"],
  ])("names by the pattern %s", (pattern, expected) => expect(arrange(picture, "flat", new NamePattern(pattern))).toEqual([expected]));

  it.each(["{bad}", "{name", "name}", "  ", "a/b", "{{name}}"])("the pattern %s is refused, and says what may stand in one", (pattern) => {
    expect(() => new NamePattern(pattern)).toThrow(PatternError);
    expect(() => new NamePattern(pattern)).toThrow("{camera}");
  });

  it("a lost extension is the one its content has", () => {
    const nameless = { ...picture, path: "/?/Unnamed file at 12", name: "Unnamed file at 12", extension: "png" };
    expect(arrange(nameless, "tree", null)).toEqual(["_unknown folder", "Unnamed file at 12.png"]);
  });

  it("whatever the facts are, no name leads out of the destination", { tags: "long" }, () => {
    fc.assert(
      fc.property(
        fc.string({ unit: "binary" }),
        fc.string({ unit: "binary" }),
        fc.constantFrom(...LAYOUTS),
        fc.constantFrom("{title}", "{camera} {folder}", "{name}{ext}", null),
        fc.constantFrom(...KINDS),
        (text, path, layout, pattern, kind) => {
          const file = { ...picture, path: `/${path}/${text}`, name: text, title: text, camera: text, kind };
          for (const part of arrange(file, layout, pattern === null ? null : new NamePattern(pattern))) {
            expect(part).not.toMatch(/[/\\\0]/);
            expect(part).not.toMatch(/^\.{0,2}$/);
            expect(Buffer.byteLength(part)).toBeLessThanOrEqual(255);
          }
        },
      ),
      { numRuns: 400 },
    );
  });
});

describe("the manifests of a bag (RFC 8493)", () => {
  it("name a path a line; what would end a line is written as its code (2.1.3)", () => {
    // The section's own cases: a line feed, a carriage return, a percent sign.
    expect(encodePath("data/a\nb\rc%d")).toBe("data/a%0Ab%0Dc%25d");
    fc.assert(fc.property(fc.string({ unit: "binary" }), (path) => decodePath(encodePath(path)) === path));
    const files = [{ path: "data/a b%.txt", size: 3, hashes: { sha256: "ab".repeat(32), sha512: "cd".repeat(64) } }];
    expect(parseManifest(writeManifest(files, "sha256"))).toEqual(new Map([["data/a b%.txt", "ab".repeat(32)]]));
    expect(oxumOf(files)).toBe("3.1");
  });

  it("are read in the other forms the section allows: capitals, tabs, any end of line", () => {
    expect(parseManifest(`${"AB".repeat(32)}\tdata/x\r\n${"cd".repeat(32)} *data/y\r`)).toEqual(
      new Map([
        ["data/x", "ab".repeat(32)],
        ["data/y", "cd".repeat(32)],
      ]),
    );
    expect(parseManifest("no manifest at all")).toBeNull();
  });

  it("facts stand on a line each", () => {
    const text = writeInfo([["External-Description", "two\nlines"]]);
    expect(text).toBe("External-Description: two lines\n");
    expect(infoValue(text, "external-description")).toBe("two lines");
    expect(infoValue(text, "Payload-Oxum")).toBeNull();
  });
});

import fc from "fast-check";
import { describe, expect, it } from "vitest";
import { fold, GivenPaths, numberedName, safeComponents, safeName } from "./names";

describe("names at the destination", () => {
  it("never lead out of it, are never empty, and can be written on any device", { tags: "long" }, () => {
    fc.assert(
      fc.property(fc.string({ unit: "binary", maxLength: 400 }), (path) => {
        for (const part of safeComponents(path)) {
          expect(part).not.toMatch(/[/\\:*?"<>|]/);
          expect([".", "..", ""]).not.toContain(part);
          expect(part).not.toMatch(/[. ]$/);
          expect(new TextEncoder().encode(part).length).toBeLessThanOrEqual(255 - 16);
        }
      }),
    );
  });

  it("keep what can be kept", () => {
    expect(safeComponents("/Users/mo/Größe der Kuppel.txt")).toEqual(["Users", "mo", "Größe der Kuppel.txt"]);
    expect(safeComponents("/?/letter.docx")).toEqual(["_unknown folder", "letter.docx"]);
    expect(safeComponents("/../../etc/passwd")).toEqual(["__", "__", "etc", "passwd"]);
    expect(safeName("gpj.\u202eexe")).toBe("gpj.exe");
    expect(safeName(`${"観".repeat(120)}.txt`)).toMatch(/^観+\.txt$/);
  });

  // "Naming Files, Paths, and Namespaces" in the documentation of the Windows file API.
  it("never mean a device on Windows", () => {
    const names = ["CON", "nul.docx", "Com1.txt", "lpt\u00b2.tar.gz", "aux .txt", "CONIN$", "prn"];
    expect(names.map(safeName)).toEqual(["CON_", "nul_.docx", "Com1_.txt", "lpt\u00b2_.tar.gz", "aux_ .txt", "CONIN$_", "prn_"]);
    for (const name of ["console.txt", "com10.txt", "a con", "nullable", "COM.txt"]) expect(safeName(name)).toBe(name);
    expect(safeComponents("/aux/NUL/letter. ")).toEqual(["aux_", "NUL_", "letter__"]);
  });

  it("get a number before the extension when one is taken", () => {
    expect(numberedName("letter.docx", 2)).toBe("letter (2).docx");
    expect(numberedName("README", 3)).toBe("README (3)");
  });
});

describe("the paths of many files", () => {
  it("are different, and no file has the path of a folder", () => {
    const paths = new GivenPaths();
    const give = (path: string) => paths.give(path.split("/")).join("/");
    expect(["notes", "Notes", "notes/March.txt", "notes/inner/May.txt", "notes/march.txt", "a/b", "a", "A/c"].map(give)).toEqual([
      "notes",
      "Notes (2)",
      "notes (3)/March.txt",
      "notes (3)/inner/May.txt",
      "notes (3)/march (2).txt",
      "a/b",
      "a (2)",
      "A/c",
    ]);
  });

  it("stay different for any names", () => {
    const name = fc.constantFrom("a", "A", "b", "a (2)", "b.txt", "é", "e\u0301");
    fc.assert(
      fc.property(fc.array(fc.array(name, { minLength: 1, maxLength: 4 }), { maxLength: 30 }), (all) => {
        const paths = new GivenPaths();
        const given = all.map((parts) => fold(paths.give(parts).join("/")));
        expect(new Set(given).size).toBe(given.length);
        for (const one of given)
          expect(
            given.some((other) => other.startsWith(`${one}/`)),
            one,
          ).toBe(false);
      }),
    );
  });
});

import { describe, expect, it } from "vitest";
import { readStampedName, readStateFolder } from "./stamps";

const iso = (at: number | undefined) => (at === undefined ? null : new Date(at).toISOString().slice(0, 19));

/** The ways of writing are common practice, no published source. */
describe("stamps in names", () => {
  it("of dated copies stand before the last dot; only the last group is one, and only a moment that exists", () => {
    const of = (name: string) => {
      const found = readStampedName(name);
      return found && [found.name, iso(found.at)];
    };
    expect(of("letter (2025_11_20 18_04_09 UTC).docx")).toEqual(["letter.docx", "2025-11-20T18:04:09"]);
    expect(of(" (2025_11_20 18_04_09 UTC).profil")).toEqual([".profil", "2025-11-20T18:04:09"]);
    expect(of("a.tar (2025_11_20 18_04_09 UTC).gz")).toEqual(["a.tar.gz", "2025-11-20T18:04:09"]);
    expect(of("Makefile (2025_11_20 18_04_09 UTC)")).toEqual(["Makefile", "2025-11-20T18:04:09"]);
    expect(of("Notes (2025_12_01 08_00_00 UTC) (2025_11_20 18_04_09 UTC).txt")).toEqual([
      "Notes (2025_12_01 08_00_00 UTC).txt",
      "2025-11-20T18:04:09",
    ]);
    for (const name of ["f (2026_02_30 10_00_00 UTC).txt", "f (2026_02_30 UTC).txt", "letter.docx", " (2025_11_20 18_04_09 UTC)"])
      expect(of(name)).toBeNull();
  });

  it("of dated folders are local times, with an ending where they are not finished", () => {
    expect(readStateFolder("2026-01-12-103719")).toEqual({ at: Date.UTC(2026, 0, 12, 10, 37, 19), ending: "" });
    expect(readStateFolder("2026-01-12-103719.inProgress")?.ending).toBe(".inProgress");
    for (const name of ["2026-13-12-103719", "2026-01-12-253719", "2026-01-12", "x2026-01-12-103719"])
      expect(readStateFolder(name)).toBeNull();
  });
});

import { describe, expect, it } from "vitest";
import { seeded } from "../../demo/draw";
import { SearchText } from "./search-text";

const PIECES = ["tide", "Lantern", "ÄRGER", "straße", "観測", "İ", "x", " ", "2026-03-01", "🙂", "n"];

describe("texts that are searched", () => {
  it("are found as the language's own search finds them, without regard to case, over many chunks", () => {
    const random = seeded(11);
    const next = (below: number) => Math.floor(random() * below);
    const all = new SearchText();
    const texts = Array.from({ length: 3_000 }, (_, i) => {
      const parts = Array.from({ length: 1 + next(4) }, () => Array.from({ length: next(6) }, () => PIECES[next(PIECES.length)]).join(""));
      // Long ones, so that texts end at many places of several chunks.
      return i % 40 === 0 ? [...parts, "é".repeat(next(150_000))] : parts;
    });
    for (const parts of texts) all.append(parts);
    expect(all.length).toBe(texts.length);
    for (const words of [
      "tide",
      "TIDE",
      "ärger",
      "STRASSE",
      "straße",
      "観",
      "i̇",
      "x",
      " ",
      "03-01",
      "🙂",
      "ntide",
      "tide2026-03-01x",
      "lanternlantern",
      "観測🙂",
      "éx",
      "nothing of it",
    ]) {
      const wanted = texts.map((parts) => parts.some((part) => part.toLowerCase().includes(words.toLowerCase())));
      expect([...all.find(words)].map(Boolean), words).toEqual(wanted);
    }
    expect([...all.find("")].every((each) => each === 1)).toBe(true);
  });

  it("are not found across their parts or across two of them", () => {
    const all = new SearchText();
    all.append(["one", "two"]);
    all.append(["three"]);
    for (const words of ["onetwo", "twothree", "\0", "e\0t"]) expect([...all.find(words)]).toEqual([0, 0]);
    expect([...all.find("t")]).toEqual([1, 1]);
  });

  it("are found while more are added", () => {
    const all = new SearchText();
    for (let i = 0; i < 300; i += 1) {
      all.append([`number ${i}`]);
      expect(all.find(`number ${i}`)[i]).toBe(1);
    }
    expect([...all.find("number 29")].reduce((sum, each) => sum + each, 0)).toBe(11);
  });
});

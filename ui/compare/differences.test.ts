import fc from "fast-check";
import { describe, expect, it } from "vitest";
import { byteDifferences, sheetDifferences, textDifference } from "./differences";

describe("comparing", () => {
  it("texts: each side can be put together again from the lines", () => {
    const text = fc.array(fc.constantFrom("a", "b", "c", "a longer line"), { maxLength: 30 }).map((lines) => lines.join("\n"));
    fc.assert(
      fc.property(text, text, (first, second) => {
        const lines = textDifference(`${first}\n`, `${second}\n`);
        expect(
          lines
            .filter((line) => line.kind !== "second")
            .map((line) => line.text)
            .join("\n"),
        ).toBe(first);
        expect(
          lines
            .filter((line) => line.kind !== "first")
            .map((line) => line.text)
            .join("\n"),
        ).toBe(second);
      }),
    );
  });

  it("sheets: by cell, also where one has more rows or another sheet", () => {
    const table = (name: string, rows: string[][]) => ({ name, columns: ["A", "B"], rows, total: rows.length });
    expect(
      sheetDifferences(
        { tables: [table("Nights", [["1", "x"]])], problem: null },
        {
          tables: [
            table("Nights", [
              ["1", "y"],
              ["2", ""],
            ]),
            table("New", [["n", ""]]),
          ],
          problem: null,
        },
      ),
    ).toEqual([
      { sheet: "Nights", place: "B1", kind: "cell", first: "x", second: "y" },
      { sheet: "Nights", place: "row 2", kind: "row", first: null, second: "2" },
      { sheet: "New", place: "row 1", kind: "row", first: null, second: "n" },
    ]);
  });

  const sheetOf = (rows: readonly (readonly string[])[]) => ({
    tables: [{ name: "Nights", columns: ["A", "B", "C"], rows: rows.map((row) => [...row]), total: rows.length }],
    problem: null,
  });
  const nights = Array.from({ length: 60 }, (_, night) => [`night ${night}`, String((night * 37) % 101), night % 2 ? "clear" : "cloud"]);

  it("sheets: a row that was put in or taken out is one difference, wherever", () => {
    for (const at of [0, 1, 30, 60]) {
      const more = [...nights.slice(0, at), ["a new night", "7", "fog"], ...nights.slice(at)];
      expect(sheetDifferences(sheetOf(nights), sheetOf(more))).toEqual([
        { sheet: "Nights", place: `row ${at + 1}`, kind: "row", first: null, second: "a new night, 7, fog" },
      ]);
      expect(sheetDifferences(sheetOf(more), sheetOf(nights))).toEqual([
        { sheet: "Nights", place: `row ${at + 1}`, kind: "row", first: "a new night, 7, fog", second: null },
      ]);
    }
  });

  it("sheets: a row put in beside a changed one stays one difference, and the change one cell", () => {
    const changed = nights.map((row, night) => (night === 12 ? [row[0] as string, "999", row[2] as string] : row));
    const both = [...changed.slice(0, 12), ["a new night", "7", "fog"], ...changed.slice(12)];
    expect(sheetDifferences(sheetOf(nights), sheetOf(both)).map(({ kind, place }) => [kind, place])).toEqual([
      ["row", "row 13"],
      ["cell", "B13"],
    ]);
  });

  it("sheets: nothing differs where they are the same, and something where they are not", () => {
    const row = fc.array(fc.constantFrom("", "a", "b", "1"), { minLength: 3, maxLength: 3 });
    const rows = fc.array(row, { maxLength: 12 });
    const plain = (all: readonly string[][]) =>
      all
        .map((each) => each.join("|").replace(/\|+$/, ""))
        .join("\n")
        .replace(/\n+$/, "");
    fc.assert(
      fc.property(rows, rows, (first, second) => {
        expect(sheetDifferences(sheetOf(first), sheetOf(first))).toEqual([]);
        if (plain(first) !== plain(second)) expect(sheetDifferences(sheetOf(first), sheetOf(second)).length).toBeGreaterThan(0);
      }),
    );
  });

  it("bytes: just the ranges that differ", () => {
    fc.assert(
      fc.property(fc.uint8Array({ maxLength: 60 }), fc.uint8Array({ maxLength: 60 }), (first, second) => {
        const differing = new Set<number>();
        for (const { start, end } of byteDifferences(first, second)) for (let at = start; at < end; at += 1) differing.add(at);
        for (let at = 0; at < Math.max(first.length, second.length); at += 1) expect(differing.has(at)).toBe(first[at] !== second[at]);
      }),
    );
  });
});

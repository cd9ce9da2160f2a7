import fc from "fast-check";
import { describe, expect, it } from "vitest";
import { byteDifferences, cellDifferences, textDifference } from "./differences";

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
      cellDifferences(
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
      { sheet: "Nights", cell: "B1", first: "x", second: "y" },
      { sheet: "Nights", cell: "A2", first: "", second: "2" },
      { sheet: "New", cell: "A1", first: "", second: "n" },
    ]);
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

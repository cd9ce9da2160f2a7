import fc from "fast-check";
import { describe, expect, it } from "vitest";
import { COLUMNS, type Column, type Columns, columnsFrom, columnsOf, moved, NARROWEST, resized, storedColumns, toggled } from "./columns";

describe("the columns of the list", () => {
  it("are taken from what was remembered as far as it makes sense", () => {
    expect(columnsFrom(null).shown).toEqual(["ribbon", "size", "condition"]);
    expect(columnsFrom("nonsense").shown).toEqual(["ribbon", "size", "condition"]);
    const stored = columnsFrom(JSON.stringify({ shown: ["size", "size", "bogus", "kind"], widths: { size: 120, kind: 9999, bogus: 4 } }));
    expect(stored.shown).toEqual(["size", "kind"]);
    expect([stored.widths.size, stored.widths.kind]).toEqual([120, 96]);
  });

  it("of items and of versions are their own: a version's state is a column of versions alone", () => {
    expect(columnsOf("versions")).toEqual(COLUMNS);
    expect(columnsOf("items")).toEqual(COLUMNS.filter((column) => column !== "kept"));
    expect(columnsFrom(null, 0, "versions").shown).toEqual(["changed", "kept", "size", "condition"]);
    expect(columnsFrom(JSON.stringify({ shown: ["kept", "size"] })).shown).toEqual(["size"]);
  });

  it.each(["items", "versions"] as const)("are shown, hidden, moved and widened, and never lost or doubled: of %s", (list) => {
    const column = fc.constantFrom(...columnsOf(list));
    const change = fc.oneof(
      fc.record({ do: fc.constant("toggle" as const), column }),
      fc.record({ do: fc.constant("move" as const), column, by: fc.integer({ min: -12, max: 12 }) }),
      fc.record({ do: fc.constant("resize" as const), column, by: fc.double({ min: -100, max: 5000, noNaN: true }) }),
    );
    fc.assert(
      fc.property(fc.array(change, { maxLength: 30 }), (changes) => {
        let columns: Columns = columnsFrom(null, 0, list);
        for (const each of changes) {
          const before = columns;
          if (each.do === "toggle") columns = toggled(columns, each.column);
          else if (each.do === "move") columns = moved(columns, each.column, each.by);
          else columns = resized(columns, each.column, each.by);
          expect(new Set(columns.shown).size).toBe(columns.shown.length);
          if (each.do === "toggle") expect(columns.shown.includes(each.column)).toBe(!before.shown.includes(each.column));
          else expect([...columns.shown].sort()).toEqual([...before.shown].sort());
          for (const width of Object.values(columns.widths)) expect(width >= NARROWEST && width <= 600).toBe(true);
        }
        // What is remembered comes back as it was.
        expect(columnsFrom(storedColumns(columns, 1280), 1280, list)).toEqual(columns);
      }),
    );
  });

  it("are moved by whole places, up to the ends", () => {
    const columns: Columns = { ...columnsFrom(null), shown: ["size", "kind", "folder"] };
    const order = (column: Column, step: number) => moved(columns, column, step).shown;
    expect(order("size", 1)).toEqual(["kind", "size", "folder"]);
    expect(order("folder", -1)).toEqual(["size", "folder", "kind"]);
    expect(order("kind", -9)).toEqual(["kind", "size", "folder"]);
    expect(order("pixels", 1)).toEqual(columns.shown);
  });

  it("leave the time axis as wide as the window allows, unless somebody gave it a width", () => {
    const [small, large] = [columnsFrom(null, 1280), columnsFrom(null, 2200)];
    expect(large.widths.ribbon).toBeGreaterThan(small.widths.ribbon);
    expect(columnsFrom(storedColumns(small, 1280), 2200).widths.ribbon).toBe(large.widths.ribbon);
    expect(columnsFrom(storedColumns(resized(small, "ribbon", 300), 1280), 2200).widths.ribbon).toBe(300);
  });
});

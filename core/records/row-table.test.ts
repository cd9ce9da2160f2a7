import { describe, expect, it } from "vitest";
import { seeded } from "../../demo/draw";
import { toEnd } from "../bytes/stepwise";
import { describeCell } from "./cell-text";
import type { RecordRow } from "./entries/table";
import { RowList } from "./row-list";
import { RowTable } from "./row-table";
import type { Value } from "./sqlite/record";

const row = (values: readonly (Value | undefined)[], others: Partial<RecordRow> = {}): RecordRow => ({
  values,
  rowid: null,
  state: "live",
  confidence: "whole",
  uncommitted: false,
  former: false,
  at: 0,
  from: "main",
  ...others,
});

const VALUES: readonly (Value | undefined)[] = [
  undefined,
  null,
  0,
  -0,
  127,
  128,
  -128,
  -129,
  2 ** 31 - 1,
  -(2 ** 31),
  2 ** 31,
  2 ** 53 - 1,
  0.1,
  1e300,
  Number.POSITIVE_INFINITY,
  2n ** 63n - 1n,
  -(2n ** 63n),
  "",
  "short",
  "a text that is longer than what is written character by character",
  "Ärger 観測 🙂",
  "\0",
  "é".repeat(7_000),
  new Uint8Array(0),
  Uint8Array.from({ length: 300 }, (_, i) => i),
];

describe("rows kept as bytes", () => {
  it("come back as they were, whatever values they have", () => {
    const random = seeded(3);
    const rows = Array.from({ length: 800 }, (_, i) => {
      const values = Array.from({ length: Math.floor(random() * 8) }, () => VALUES[Math.floor(random() * VALUES.length)]);
      return row(values, {
        rowid: ([i, null, -i, 2n ** 60n] as const)[i % 4] as RecordRow["rowid"],
        state: i % 3 === 0 ? "deleted" : "live",
        confidence: (["whole", "part", "guess"] as const)[i % 3] as RecordRow["confidence"],
        uncommitted: i % 5 === 0,
        former: i % 3 === 0,
        at: i % 7 === 0 ? null : i * 1e7,
        from: ([null, "main", "log", "journal"] as const)[i % 4] as RecordRow["from"],
      });
    });
    const kept = RowList.of(rows);
    expect(kept.length).toBe(rows.length);
    for (const [i, wanted] of rows.entries()) {
      expect(kept.at(i)).toStrictEqual(wanted);
      expect(kept.numberAt(i)).toBe(wanted.rowid);
      expect(kept.stateAt(i)).toBe(wanted.state);
      for (let column = 0; column < 9; column += 1) expect(kept.valueAt(i, column)).toStrictEqual(wanted.values[column]);
    }
    expect(kept.at(-1)).toBeUndefined();
    expect(kept.at(rows.length)).toBeUndefined();
    expect(kept.valueAt(0, -1)).toBeUndefined();
  });

  it("remember which of several databases have them", () => {
    const kept = RowList.of([row([1], { in: [0] }), row([2], { in: [1, 11] })]);
    expect([...kept].map((each) => each.in)).toEqual([[0], [1, 11]]);
  });
});

const FIRST = Date.UTC(2025, 1, 1) / 1000;
const found = (table: RowTable, words: string, only: "all" | "live" | "deleted" = "all") =>
  [...table.find({ words, only })].map((place) => table.rows.at(place)?.values[0]);

describe("a table", () => {
  it("stands in the order of its times, deleted rows among the others, and is searched as it is shown", () => {
    const table = new RowTable("notes", ["id", "at", "words"]);
    for (let i = 0; i < 5_000; i += 1) table.append(row([i, FIRST + i * 60, `note ${i} of the tide`], { rowid: i }), 1 << 30);
    for (let i = 0; i < 50; i += 1)
      table.append(row([10_000 + i, FIRST + i * 6_000 + 30, `gone ${i}`], { rowid: null, state: "deleted" }), 1 << 30);
    expect(table.times.map((form) => form?.id ?? null)).toEqual([null, "s-1970", null]);
    // What is read so far is found before the end, too.
    expect(found(table, "NOTE 17 OF")).toEqual([17]);
    toEnd(table.finish());
    expect([table.live, table.deleted, table.rows.length]).toEqual([5_000, 50, 5_050]);
    const all = found(table, "");
    expect(all.slice(0, 3)).toEqual([0, 10_000, 1]);
    expect(all.indexOf(10_001)).toBe(all.indexOf(100) + 1);
    expect(found(table, "gone")).toHaveLength(50);
    expect(found(table, "note", "deleted")).toEqual([]);
    expect(found(table, "", "deleted")).toHaveLength(50);
    // Row 60 is an hour behind the first, as anybody's calendar says; nobody finds it by the number that stands there.
    expect(found(table, "2025-02-01 01:00:00")).toEqual([60]);
    expect(found(table, String(FIRST + 3_600))).toEqual([]);
    expect(describeCell(FIRST + 3_600, table.times[1] ?? null, 100)).toBe(
      new Date((FIRST + 3_600) * 1000).toISOString().slice(0, 19).replace("T", " "),
    );
  });

  it("whose times come late is searched by them all the same", () => {
    const table = new RowTable("notes", ["id", "edited"]);
    for (let i = 0; i < 6_000; i += 1) table.append(row([i, i < 5_000 ? null : FIRST + i * 3_600]), 1 << 30);
    expect(table.times[1]).toBeNull();
    toEnd(table.finish());
    expect(table.times[1]?.id).toBe("s-1970");
    const hour = new Date((FIRST + 5_100 * 3_600) * 1000).toISOString().slice(0, 13).replace("T", " ");
    expect(found(table, hour)).toEqual([5_100]);
  });

  it("counts what it does not keep, and keeps the first rows without a gap", () => {
    const table = new RowTable("pictures", ["id", "bytes"]);
    let left = 20_000;
    for (let i = 0; i < 30; i += 1) left -= table.append(row([i, new Uint8Array(i === 10 ? 15_000 : 900)]), left);
    expect(table.live).toBe(30);
    expect(found(table, "")).toEqual([0, 1, 2, 3, 4, 5, 6, 7, 8, 9]);
    // What is left of deleted rows has room of its own.
    expect(table.append(row([99, "gone"], { state: "deleted" }), 500)).toBeGreaterThan(0);
    expect(found(table, "gone")).toEqual([99]);
  });

  it("finds words far behind what is shown of a long text", () => {
    const table = new RowTable("letters", ["text"]);
    table.append(row([`${"word ".repeat(100_000)}needle`]), 1 << 30);
    toEnd(table.finish());
    expect(table.find({ words: "needle", only: "all" })).toHaveLength(1);
  });
});

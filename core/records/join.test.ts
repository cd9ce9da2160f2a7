import { describe, expect, it } from "vitest";
import { openFixture, recordsFiles, recordsTruth } from "../../tests/support/records-truth";
import { type Joined, joinRecords } from "./join";
import type { Row } from "./row";

const candidate = (name: string) => {
  const reader = openFixture(recordsFiles(name), true);
  if (!reader) throw new Error("no database");
  return { name, reader };
};

describe("databases that are joined", () => {
  // Two installations: their rows have numbers of their own, and share the people's handles.
  const names = ["plain", "small-pages"] as const;
  const joined = joinRecords(names.map(candidate));
  const table = (name: string) => joined.tables.find((each) => each.name === name);

  it("have every row that counts in any of them once, under the key the schema declares", () => {
    const guids = (table("notes")?.rows ?? []).map(({ values }) => values[1]);
    expect(new Set(guids).size).toBe(guids.length);
    for (const name of names) for (const row of recordsTruth(name).live.notes ?? []) expect(guids).toContain(row[1]);
    expect(table("people")?.rows).toHaveLength(12);
    expect(table("notes")?.identity).toContain("unique (guid)");
    expect(table("marks")?.identity).toContain("declared key");
  });

  it("lead to the same rows as before, under new numbers where two shared one", () => {
    const handles = new Map(table("people")?.rows.map(({ rowid, values }) => [rowid, values[1]]));
    const persons = new Map(table("notes")?.rows.map(({ values }) => [values[1], handles.get(values[2] as number)]));
    for (const name of names) {
      const { live } = recordsTruth(name);
      const own = new Map(live.people?.map(([id, handle]) => [id, handle]));
      for (const [, guid, person] of live.notes ?? []) expect(persons.get(guid as string)).toBe(own.get(person as number));
    }
    const numbers = table("notes")?.rows.map(({ rowid }) => rowid);
    expect(new Set(numbers).size).toBe(numbers?.length);
    expect(table("notes")?.rows.every(({ rowid, values }) => values[0] === rowid)).toBe(true);
  });

  it("have what is left of deleted rows, said to be that, and with whom", () => {
    const deleted = table("notes")?.rows.filter((row) => row.deleted) ?? [];
    const gone = new Set(names.flatMap((name) => recordsTruth(name).deleted.notes?.map(({ row }) => row[1]) ?? []));
    expect(deleted.length).toBeGreaterThan(150);
    expect(deleted.every(({ values, from }) => gone.has(values[1] as string) && from.length > 0)).toBe(true);
  });

  it("are complete where one of them is damaged and an older one has what is lost, in either order", () => {
    const files = recordsFiles("plain");
    const bytes = Buffer.from(files.get("data.db") ?? []);
    const page = bytes.readUInt16BE(16);
    // Every other leaf of tables (SQLite file format, 1.6): indexes still have some of the columns.
    let leaves = 0;
    for (let at = page; at < bytes.length; at += page) if (bytes[at] === 0x0d && leaves++ % 2 === 0) bytes.fill(0, at, at + page);
    const damaged = () => {
      const reader = openFixture(new Map([...files, ["data.db", bytes]]), true);
      if (!reader) throw new Error("no database");
      return { name: "damaged", reader };
    };
    const parts = [...damaged().reader.rows()].filter(({ state, confidence }) => state === "live" && confidence === "part");
    expect(parts.length).toBeGreaterThan(20);
    // What leads to a row that is gone everywhere has a number below 0, which may be any.
    const text = (values: readonly unknown[]) =>
      JSON.stringify(values.map((value) => (typeof value === "number" && value < 0 ? "gone" : value)));
    const counting = (all: Joined) =>
      new Map(
        all.tables.map(({ name, rows }) => [
          name,
          rows
            .filter(({ deleted }) => !deleted)
            .map(({ values }) => text(values))
            .sort(),
        ]),
      );
    const expected = counting(joinRecords([candidate("plain")]));
    for (const both of [
      [damaged(), candidate("plain")],
      [candidate("plain"), damaged()],
    ]) {
      const found = joinRecords(both);
      expect(counting(found)).toEqual(expected);
      for (const { rows } of found.tables) expect(rows.filter(({ deleted, confidence }) => !deleted && confidence !== "whole")).toEqual([]);
    }
    const alone = joinRecords([damaged()]).tables.flatMap(({ rows }) => rows);
    expect(alone.filter(({ deleted, confidence }) => !deleted && confidence === "part").length).toBeGreaterThan(0);
  });

  it("complete a row that counts in part by a remain that says the same, and go on calling it a part", () => {
    const schema = [
      { type: "table", name: "n", table: "n", root: 2, sql: "create table n(id integer primary key, guid text unique, words text)" },
    ];
    const row = (values: Row["values"], facts: Partial<Row>): Row => ({
      ...{ table: "n", root: 2, columns: ["id", "guid", "words"], values, rowid: 1, state: "live", confidence: "whole" },
      ...{ uncommitted: false, former: false, at: 0, from: "main", ...facts },
    });
    const of = (name: string, rows: readonly Row[]) => ({
      name,
      reader: { schema, notes: [], rows: () => rows.values() as Generator<Row> },
    });
    const part = of("part", [row([1, "key", undefined], { confidence: "part" })]);
    const left = of("left", [row([1, "key", "what it said"], { state: "deleted" })]);
    for (const both of [
      [part, left],
      [left, part],
    ])
      expect(joinRecords(both).tables[0]?.rows).toMatchObject([
        { values: [1, "key", "what it said"], deleted: false, confidence: "part", from: [0, 1] },
      ]);
  });

  it("leave out what was never committed, and say how much that is", { tags: "long" }, () => {
    const { live, deleted } = recordsTruth("log");
    const { tables, leftOut } = joinRecords([candidate("log"), candidate("log")]);
    const uncommitted = [...candidate("log").reader.rows()].filter(
      (row) => row.uncommitted && !(row.table ?? "sqlite_").startsWith("sqlite_"),
    ).length;
    expect(uncommitted).toBeGreaterThan(0);
    expect(leftOut).toContain(`log: ${uncommitted} rows that were written and never committed are left out.`);
    const guids = new Set(tables.find(({ name }) => name === "notes")?.rows.map(({ values }) => values[1]));
    const counted = new Set(
      [...(live.notes ?? []), ...(deleted.notes ?? []).map(({ row }) => row)].filter((row) => Number(row[0]) <= 480).map((row) => row[1]),
    );
    expect(guids.size).toBeGreaterThan(live.notes?.length as number);
    for (const guid of guids) expect(counted).toContain(guid);
  });
});

import { describe, expect, it } from "vitest";
import { openFixture, recordsFiles, recordsTruth } from "../../tests/support/records-truth";
import { joinRecords } from "./join";

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

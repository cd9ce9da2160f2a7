import { describe, expect, it } from "vitest";
import { cellsOf, openFixture, RECORDS, recordsFiles, recordsTruth } from "../../tests/support/records-truth";

// The truth is SQLite's own reading (live rows) and the maker's record of every row there ever was; tests/fixtures/make-records.py.
const rowsOf = (name: string) => [...(openFixture(recordsFiles(name), true)?.rows() ?? [])];
const named = RECORDS.filter((name) => name !== "first-page-zeroed");

describe("the rows of a database", () => {
  it.each(named)("that count are SQLite's own, value by value: %s", (name) => {
    const { live, columns } = recordsTruth(name);
    const found = [...(openFixture(recordsFiles(name), false)?.rows() ?? [])];
    for (const [table, rows] of Object.entries(live)) {
      const mine = found.filter((row) => row.table === table);
      expect(mine[0]?.columns).toEqual(columns[table]);
      expect(mine.map((row) => JSON.stringify(cellsOf(row))).sort()).toEqual(rows.map((row) => JSON.stringify(row)).sort());
      expect(mine.every(({ state, confidence }) => state === "live" && confidence === "whole")).toBe(true);
    }
    expect(found.filter(({ table }) => table !== "sqlite_sequence").length).toBe(Object.values(live).flat().length);
  });

  it("keep their columns apart by number where the first page is gone, and only those that counted count", () => {
    const { live } = recordsTruth("first-page-zeroed");
    const reader = openFixture(recordsFiles("first-page-zeroed"), false);
    const found = [...(reader?.rows() ?? [])];
    expect(reader?.notes.join(" ")).toContain("first page is damaged");
    expect(found.every(({ table, columns }) => table === null && columns[0] === "0")).toBe(true);
    const mine = new Set(found.map((row) => JSON.stringify(cellsOf(row).slice(1))));
    for (const rows of Object.values(live)) for (const row of rows) expect(mine).toContain(JSON.stringify(row.slice(1)));
    const counted = new Set(Object.values(live).flatMap((rows) => rows.map((row) => JSON.stringify(row.slice(1)))));
    // What counts beside them is SQLite's own sequence, of one row.
    expect([...mine].filter((row) => !counted.has(row)).length).toBeLessThanOrEqual(1);
  });
});

describe("a log that is damaged", () => {
  it("says how many transactions in it do not count, and that nothing else is wrong", () => {
    const files = recordsFiles("log");
    const log = files.get("data.db-wal") as Uint8Array;
    const notesOf = (changed: Uint8Array) => openFixture(new Map([...files, ["data.db-wal", changed]]), false)?.notes.join(" ");
    expect(notesOf(log)).not.toContain("damaged");
    const view = new DataView(log.buffer, log.byteOffset, log.length);
    const [salt, frame] = [view.getBigUint64(16), 24 + view.getUint32(8)];
    // A frame that ends a transaction says how many pages there are then (SQLite file format, 4.1).
    const ends: number[] = [];
    for (let at = 32; at + frame <= log.length; at += frame)
      if (view.getBigUint64(at + 8) === salt && view.getUint32(at + 4) > 0) ends.push(at);
    expect(ends.length).toBeGreaterThan(1);
    const inLast = Uint8Array.from(log);
    inLast[(ends.at(-1) as number) + 24 + 50] = (inLast[(ends.at(-1) as number) + 24 + 50] as number) ^ 1;
    expect(notesOf(inLast)).toContain("one transaction in it does not count");
    const inFirst = Uint8Array.from(log);
    inFirst[32 + 24 + 50] = (inFirst[32 + 24 + 50] as number) ^ 1;
    expect(notesOf(inFirst)).toContain(`${ends.length} transactions in it do not count`);
  });
});

describe("what is left of rows that do not count any more", () => {
  const sums = { standing: 0, found: 0, rows: 0, never: 0 };
  it.each(named)("is found where it stands, and nothing is called whole that never was: %s", (name) => {
    const { live, deleted, columns } = recordsTruth(name);
    const found = rowsOf(name).filter(({ state }) => state === "deleted");
    for (const table of Object.keys(columns)) {
      const ever = [...(live[table] ?? []), ...(deleted[table] ?? []).map(({ row }) => row)];
      // Where a row's number is gone the column that shows it is, too.
      const unnumbered = table === "people" || table === "notes" ? 1 : 0;
      const key = (cells: readonly unknown[]) => JSON.stringify(cells.slice(unnumbered));
      const known = new Set(ever.map(key));
      const mine = found.filter((row) => row.table === table);
      const keys = new Set(mine.map((row) => key(cellsOf(row))));
      for (const row of mine) {
        const was = known.has(key(cellsOf(row)));
        sums.rows += 1;
        if (!was && !cellsOf(row).includes(undefined)) sums.never += 1;
        if (row.confidence === "whole") expect(was, `${table} ${JSON.stringify(cellsOf(row))}`).toBe(true);
      }
      for (const { row, stands } of deleted[table] ?? []) {
        if (!stands) continue;
        sums.standing += 1;
        if (keys.has(key(row))) sums.found += 1;
      }
    }
  });

  it("is nearly all of it, over all of them", () => {
    console.log(`deleted rows: ${sums.found} of ${sums.standing} that stand; ${sums.never} of ${sums.rows} are none that was`);
    expect(sums.found / sums.standing).toBeGreaterThan(0.95);
    expect(sums.never / sums.rows).toBeLessThan(0.01);
  });

  it("is said once, and never what counts", { tags: "long" }, () => {
    for (const name of named) {
      const seen = new Set<string>();
      for (const row of rowsOf(name)) {
        const key = `${row.table} ${row.rowid} ${JSON.stringify(cellsOf(row))}`;
        expect(seen.has(key), `${name}: ${key}`).toBe(false);
        seen.add(key);
      }
    }
  });

  it("says where it stands: the bytes of its texts are there", () => {
    for (const name of ["plain", "log"]) {
      const files = recordsFiles(name);
      const parts = { main: "data.db", log: "data.db-wal", journal: "data.db-journal" } as const;
      for (const { table, state, at, from, values } of rowsOf(name)) {
        const guid = values[1];
        if (state !== "deleted" || table !== "notes" || typeof guid !== "string") continue;
        const near = files
          .get(parts[from])
          ?.subarray(at, at + 64)
          .toString("latin1");
        expect(near).toContain(guid);
      }
    }
  });
});

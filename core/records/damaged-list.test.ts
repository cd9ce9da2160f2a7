import initSql from "sql.js";
import { describe, expect, it } from "vitest";
import { seeded } from "../../demo/draw";
import { randomBytesOf } from "../../tests/support/pieces-disk";
import { MemorySource } from "../bytes/byte-source";
import { RecordReader } from "./records";
import type { Value } from "./sqlite/record";

const sql = await initSql();
const PAGES = [1024, 4096, 8192];
const NO_LIST = /list of its tables is damaged|first page is damaged/;
const keyOf = (values: readonly (Value | undefined)[]) =>
  JSON.stringify(values.map((value) => (value instanceof Uint8Array ? Buffer.from(value).toString("hex") : value)));

interface Made {
  readonly bytes: Buffer;
  /** Rows by their table, without what shows the number of the row: that stands in the row nowhere. */
  readonly rows: ReadonlyMap<string, readonly string[]>;
}

// The databases are SQLite's own (the package sql.js); where the list of tables stands: SQLite file format, 1.3 and 2.6.
describe("rows of a database whose list of tables is damaged", () => {
  function made(seed: number): Made {
    const random = seeded(seed);
    const below = (most: number) => Math.floor(random() * most);
    const database = new sql.Database();
    const rows = new Map<string, string[]>();
    try {
      database.run(`pragma page_size=${PAGES[below(3)]}`);
      for (let table = 0; table < 2 + below(4); table += 1) {
        const types = Array.from({ length: 1 + below(4) }, () => ["text", "integer", "real", "blob"][below(4)] as string);
        const columns = types.map((type, i) => `c${i} ${type}`).join(", ");
        const isPlain = random() < 0.7;
        database.run(
          `create table t${table}(id ${isPlain ? "integer" : "text"} primary key, ${columns})${isPlain ? "" : " without rowid"}`,
        );
        if (isPlain && random() < 0.5) database.run(`create index i${table} on t${table}(c0)`);
        const drawn = (type: string): string | number | Uint8Array => {
          if (type === "text") return `${table}-${"abcdef xyz".slice(below(9)).repeat(1 + below(5))}`;
          if (type === "blob") return randomBytesOf(below(1 << 16), 1 + below(30));
          return type === "real" ? below(1_000_000) / 64 + 0.5 : 1000 + below(1_000_000_000);
        };
        const own: string[] = [];
        const insert = database.prepare(`insert into t${table} values(?${", ?".repeat(types.length)})`);
        for (let i = 1, count = 5 + below(300); i <= count; i += 1) {
          const id = isPlain ? i : `key ${table} ${String(i).padStart(4, "0")}`;
          const values = types.map(drawn);
          insert.run([id, ...values]);
          own.push(keyOf(isPlain ? values : [id, ...values]));
        }
        insert.free();
        rows.set(`t${table}`, own);
      }
      return { bytes: Buffer.from(database.export()), rows };
    } finally {
      database.close();
    }
  }

  const read = (bytes: Uint8Array) => {
    const reader = RecordReader.open({ main: new MemorySource(bytes) }, { deleted: false });
    const found = [...(reader?.rows() ?? [])].filter(({ table }) => table !== "sqlite_schema");
    return { found, notes: reader?.notes.join(" ") ?? "" };
  };
  /** A row as the truth has it: its number, where it is shown, stands first. */
  const bare = (values: readonly (Value | undefined)[]) =>
    keyOf(typeof values[0] === "string" && values[0].startsWith("key ") ? values : values.slice(1));

  it("all count, under their table or under none, and nothing else does, whatever part of it is damaged", {
    tags: "long",
    timeout: 120_000,
  }, () => {
    let noted = 0;
    for (let seed = 1; seed <= 60; seed += 1) {
      const { bytes, rows } = made(seed);
      expect(read(bytes).notes, `seed ${seed}, sound`).not.toMatch(NO_LIST);
      const random = seeded(seed + 1000);
      const page = bytes.readUInt16BE(16);
      const content = bytes.readUInt16BE(105);
      const length = [8, 40, 150, 400][Math.floor(random() * 4)] as number;
      // Among the entries themselves, or among what leads to them.
      const at = random() < 0.8 ? content + Math.floor(random() * (page - content - 8)) : 100 + Math.floor(random() * 30);
      const part = random() < 0.5 ? new Uint8Array(length) : randomBytesOf(seed, length);
      bytes.set(part.subarray(0, page - at), at);
      const { found, notes } = read(bytes);
      const mine = new Map(found.map((row) => [bare(row.values), row.table]));
      const all = new Set([...rows.values()].flat());
      for (const [table, own] of rows)
        for (const row of own) {
          expect(mine.has(row), `seed ${seed}: ${row} of ${table}`).toBe(true);
          expect([table, null], `seed ${seed}: ${row}`).toContain(mine.get(row));
        }
      for (const row of mine.keys()) expect(all.has(row), `seed ${seed}: ${row} never was`).toBe(true);
      if (NO_LIST.test(notes)) noted += 1;
      else
        for (const [row, table] of mine) expect(rows.get(table ?? "")?.includes(row), `seed ${seed}: nothing is said of ${row}`).toBe(true);
    }
    expect(noted).toBeGreaterThan(30);
  });

  it("count where the list of rows of their page is damaged, and it is said of how many that was found out", () => {
    const database = new sql.Database();
    database.run("pragma page_size=1024; create table t(id integer primary key, words text)");
    for (let i = 1; i <= 300; i += 1) database.run("insert into t values(?, ?)", [i, `row ${i} has some words to be found by`]);
    database.run("delete from t where id between 100 and 110");
    const bytes = Buffer.from(database.export());
    database.close();
    const notes = (of: Uint8Array) => {
      const reader = RecordReader.open({ main: new MemorySource(of) }, { deleted: true });
      const numbers = [...(reader?.rows() ?? [])].flatMap(({ table, state, rowid }) =>
        table === "t" && state === "live" ? [Number(rowid)] : [],
      );
      return { said: reader?.notes.join(" ") ?? "", numbers: numbers.sort((a, b) => a - b) };
    };
    const { said: nothing, numbers: all } = notes(bytes);
    expect(nothing).toBe("");
    expect(all).toHaveLength(289);
    // The header of a leaf of the table, its fourth page (SQLite file format, 1.6).
    expect(bytes[3 * 1024]).toBe(0x0d);
    const { said, numbers } = notes(Buffer.from(bytes).fill(0, 3 * 1024, 3 * 1024 + 8));
    expect(numbers).toEqual(all);
    expect(said).toContain("Pages of “t” are damaged or missing.");
    const [, count] = /(\d+) rows stood on damaged pages/.exec(said) ?? [];
    expect(Number(count)).toBeGreaterThan(5);
  });
});

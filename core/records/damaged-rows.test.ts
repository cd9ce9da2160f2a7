import initSql from "sql.js";
import { describe, expect, it } from "vitest";
import { seeded } from "../../demo/draw";
import { randomBytesOf } from "../../tests/support/pieces-disk";
import { MemorySource } from "../bytes/byte-source";
import { RecordReader } from "./records";
import type { Row } from "./row";

const sql = await initSql();
const PAGES = [1024, 2048, 4096];
/** The kinds of pages of a tree (SQLite file format, 1.6). */
const LEAF = 0x0d;
const INNER = 0x05;

interface Made {
  readonly bytes: Buffer;
  /** Rows that count, by table and number, and rows that did. */
  readonly rows: ReadonlySet<string>;
  readonly former: ReadonlySet<string>;
}

const keyOf = (table: string | null, number: unknown, values: readonly unknown[]) =>
  JSON.stringify([table, number, values.map((value) => (value instanceof Uint8Array ? Buffer.from(value).toString("hex") : value))]);
const keyOfRow = ({ table, rowid, values }: Row) => keyOf(table, rowid, values.slice(1));

const withoutTable = (key: string) => JSON.stringify(JSON.parse(key).slice(1));

// The databases are SQLite's own (the package sql.js); what stands in a page, and in what order: SQLite file format, 1.6.
describe("rows of a damaged database", () => {
  /** Tables of which rows were deleted and changed. */
  function made(seed: number): Made {
    const random = seeded(seed);
    const below = (most: number) => Math.floor(random() * most);
    const database = new sql.Database();
    database.run(`pragma page_size=${PAGES[below(3)]}`);
    const [rows, former] = [new Set<string>(), new Set<string>()];
    for (let table = 0; table < 2 + below(3); table += 1) {
      const name = `t${table}`;
      database.run(`create table ${name}(id integer primary key, words text, number integer, data blob${", more text".repeat(below(2))})`);
      const width = database.exec(`pragma table_info(${name})`)[0]?.values.length ?? 0;
      const drawn = () => [
        `${name} ${"abcdef xyz".slice(below(9)).repeat(1 + below(5))}`,
        below(1_000_000),
        randomBytesOf(below(1 << 16), 1 + below(30)),
        ...(width > 4 ? [`more ${below(1000)}`] : []),
      ];
      const standing = new Map<number, unknown[]>();
      for (let id = 1, count = 5 + below(400); id <= count; id += 1) standing.set(id, drawn());
      for (const [id, values] of standing)
        database.run(`insert into ${name} values(?${", ?".repeat(values.length)})`, [id, ...(values as string[])]);
      for (let change = 0; change < below(6); change += 1) {
        const first = 1 + below(standing.size);
        for (let id = first; id < first + ([1, 3, 30][below(3)] as number); id += 1) {
          const values = standing.get(id);
          if (!values) continue;
          former.add(keyOf(name, id, values));
          standing.delete(id);
          database.run(`delete from ${name} where id = ?`, [id]);
        }
      }
      for (const [id, values] of standing) rows.add(keyOf(name, id, values));
    }
    const bytes = Buffer.from(database.export());
    database.close();
    return { bytes, rows, former };
  }

  const read = (bytes: Uint8Array) => {
    const reader = RecordReader.open({ main: new MemorySource(bytes) }, { deleted: true });
    const found = [...(reader?.rows() ?? [])].filter(({ table }) => table !== "sqlite_schema");
    return {
      live: found.filter(({ state }) => state === "live"),
      deleted: found.filter(({ state }) => state !== "live"),
      notes: reader?.notes.join(" ") ?? "",
    };
  };

  it("count where the lists of rows of their pages and the pages above are written over, and hardly one that was deleted does", {
    tags: "long",
    timeout: 120_000,
  }, () => {
    let [all, sure, unsure, deleted, noted] = [0, 0, 0, 0, 0];
    for (let seed = 1; seed <= 60; seed += 1) {
      const { bytes, rows, former } = made(seed);
      const random = seeded(seed + 1000);
      const page = bytes.readUInt16BE(16);
      for (let at = page; at < bytes.length; at += page) {
        const [kind, listed] = [bytes[at], bytes.readUInt16BE(at + 3)];
        if ((kind !== LEAF && kind !== INNER) || random() < 0.7) continue;
        // All of an inner page; of a leaf its head, or its list of rows too.
        const length = kind === INNER ? page : random() < 0.5 ? 8 : 8 + 2 * listed;
        bytes.set(random() < 0.5 ? new Uint8Array(length) : randomBytesOf(seed + at, length), at);
      }
      const { live, notes } = read(bytes);
      const known = new Set(live.filter(({ confidence }) => confidence === "whole").map(keyOfRow));
      // Two tables may be alike, and both miss pages.
      const guessed = new Set(live.filter(({ confidence }) => confidence === "guess").map((row) => withoutTable(keyOfRow(row))));
      for (const key of known) {
        expect(rows.has(key) || former.has(key), `seed ${seed}: ${key} never was`).toBe(true);
        if (!rows.has(key)) deleted += 1;
      }
      const ofAnyTable = new Set([...rows, ...former].map(withoutTable));
      for (const key of guessed) expect(ofAnyTable.has(key), `seed ${seed}: ${key} never was`).toBe(true);
      all += rows.size;
      for (const key of rows)
        if (known.has(key)) sure += 1;
        else if (guessed.has(withoutTable(key))) unsure += 1;
      if (/stood on damaged pages/.test(notes)) noted += 1;
    }
    console.log(
      `rows of damaged databases: ${sure + unsure} of ${all} count, ${unsure} of them in one of several tables; ${deleted} were deleted`,
    );
    expect(sure + unsure).toBeGreaterThan(all * 0.999);
    expect(sure).toBeGreaterThan(all * 0.85);
    expect(deleted).toBeLessThan(sure * 0.001);
    expect(noted).toBeGreaterThan(40);
  });

  it("are given with the columns that indexes have of them where nothing else is left", () => {
    const database = new sql.Database();
    database.run(`pragma page_size=1024; create table t(id integer primary key, words text, number integer, other text);
      create index by_words on t(words); create index by_number on t(number desc, other) where number > 10; create index computed on t(lower(other))`);
    for (let id = 1; id <= 300; id += 1)
      database.run("insert into t values(?, ?, ?, ?)", [id, `row ${id} has some words`, id * 7, `and other ${id}`]);
    database.run("delete from t where id between 150 and 160");
    const bytes = Buffer.from(database.export());
    const ids = (database.exec("select id from t order by id")[0]?.values ?? []).map(([id]) => id as number);
    database.close();
    const leaves = Array.from({ length: bytes.length / 1024 }, (_, i) => i * 1024).filter((at) => at > 0 && bytes[at] === LEAF);
    for (const at of leaves.slice(2, 6)) bytes.fill(0, at, at + 1024);
    const { live, notes } = read(bytes);
    expect(live.map(({ rowid }) => Number(rowid)).sort((a, b) => a - b)).toEqual(ids);
    const part = live.filter(({ confidence }) => confidence === "part");
    expect(part.length).toBeGreaterThan(40);
    expect(notes).toContain(`${part.length} rows are known by indexes alone`);
    for (const { rowid, values } of part) {
      const id = Number(rowid);
      // The second index leaves out what is 10 or less, and the last one is of what nobody wrote.
      expect(values).toEqual([id, `row ${id} has some words`, id * 7, `and other ${id}`]);
    }
  });

  it("that may be of one of two tables are not given twice, as a guess and by an index", () => {
    const database = new sql.Database();
    database.run(
      "pragma page_size=1024; create table a(id integer primary key, words text); create table b(id integer primary key, words text)",
    );
    for (const table of ["a", "b"]) {
      database.run(`create index of_${table} on ${table}(words)`);
      for (let id = 1; id <= 200; id += 1) database.run(`insert into ${table} values(?, ?)`, [id, `row ${id} of ${table}`]);
    }
    const bytes = Buffer.from(database.export());
    database.close();
    // The pages above the leaves of both tables.
    for (let at = 1024; at < bytes.length; at += 1024) if (bytes[at] === INNER) bytes.fill(0, at, at + 1024);
    const { live } = read(bytes);
    const words = live.map(({ values }) => values[1]).sort();
    const all = ["a", "b"].flatMap((table) => Array.from({ length: 200 }, (_, i) => `row ${i + 1} of ${table}`));
    expect(words).toEqual(all.sort());
    expect(live.filter(({ confidence }) => confidence === "guess").length).toBeGreaterThan(0);
  });

  it("of an entry that was partly written over are not made up", () => {
    const database = new sql.Database();
    database.run("pragma page_size=1024; create table t(id integer primary key, words text); create index by_words on t(words)");
    for (let id = 1; id <= 200; id += 1)
      database.run("insert into t values(?, ?)", [id, `row ${String(id).padStart(3, "0")} has some words`]);
    const bytes = Buffer.from(database.export());
    database.close();
    const leaves = Array.from({ length: bytes.length / 1024 }, (_, i) => i * 1024).filter((at) => bytes[at] === LEAF);
    bytes.fill(0, leaves[2], (leaves[2] as number) + 1024);
    // The number at the end of an entry, and a character of a text.
    const entry = bytes.indexOf("row 050 has some words", bytes.indexOf(Buffer.from([0x0a, 0, 0]), 1024));
    expect(entry).toBeGreaterThan(0);
    bytes.writeInt8(-100, entry + "row 050 has some words".length);
    bytes[bytes.indexOf("row 060 has some words", entry) + 4] = 0;
    const { live } = read(bytes);
    const wrong = live.filter(
      ({ rowid, values }) => values[1] !== undefined && values[1] !== `row ${String(rowid).padStart(3, "0")} has some words`,
    );
    expect(wrong.filter(({ confidence }) => confidence === "part")).toEqual([]);
    expect(live.every(({ rowid }) => Number(rowid) > 0)).toBe(true);
  });
});

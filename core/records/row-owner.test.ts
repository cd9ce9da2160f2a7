import { readFileSync } from "node:fs";
import { join } from "node:path";
import { gunzipSync } from "node:zlib";
import initSql, { type Database as SqlDatabase, type SqlJsStatic } from "sql.js";
import { beforeAll, describe, expect, it } from "vitest";
import { seeded } from "../../demo/draw";
import { MemorySource } from "../bytes/byte-source";
import { RecordReader } from "./records";
import type { Row } from "./row";

let sql: SqlJsStatic;
beforeAll(async () => {
  sql = await initSql();
});

const WORDS = ["tide", "lantern", "größe", "観測", "rivet", "quill"];
const KINDS = ["integer", "text", "text", "real"];

/** Tables with the same columns and rows of the same numbers, drawn by lot, in a database that keeps what is deleted. */
function drawAlike(seed: number) {
  const random = seeded(seed);
  const next = (below: number) => Math.floor(random() * below);
  const pick = <T>(from: readonly T[]) => from[next(from.length)] as T;
  const database = new sql.Database();
  database.run(`pragma page_size=${pick([512, 1024, 4096])}; pragma secure_delete=0`);
  const kinds = Array.from({ length: 2 + next(3) }, () => pick(KINDS));
  const text = () => Array.from({ length: pick([1, 4, 20]) }, () => pick(WORDS)).join(" ");
  const value = (kind: string) => {
    if (next(12) === 0) return null;
    return kind === "integer" ? pick([next(300), 1_700_000_000 + next(1e6)]) : kind === "real" ? random() * 99 : text();
  };
  const names = ["one", "two", "three"].slice(0, 2 + next(2));
  for (const name of names) database.run(`create table ${name}(id integer primary key, ${kinds.map((kind, i) => `c${i} ${kind}`).join()})`);
  const order = names.flatMap((name) => Array.from({ length: pick([40, 200, 500]) }, () => name));
  if (next(2)) order.sort(() => random() - 0.5);
  for (const name of order) database.run(`insert into ${name} values(null, ${kinds.map(() => "?").join()})`, kinds.map(value));
  return { database, names, kinds, next, pick };
}

const lineOf = (table: string | null, values: readonly unknown[]) => JSON.stringify([table, ...values.map((each) => each ?? null)]);

/** The rows a table has, as lines that say all of them. */
const linesOf = (database: SqlDatabase, names: readonly string[]) =>
  names.flatMap((name) => (database.exec(`select * from ${name}`)[0]?.values ?? []).map((row) => lineOf(name, row)));

const deletedRows = (database: SqlDatabase, isCopy = false): Row[] => {
  const changes = Number(database.exec("pragma schema_version")[0]?.values[0]?.[0]);
  const bytes = database.export();
  // The file is a copy by the library's own means, in which the changes of the schema are counted anew (SQLite file format 1.3.9).
  if (!isCopy) new DataView(bytes.buffer, bytes.byteOffset).setUint32(40, changes);
  const reader = RecordReader.open({ main: new MemorySource(bytes), log: null, journal: null }, { deleted: true });
  return [...(reader?.rows() ?? [])].filter(({ state }) => state === "deleted");
};

describe("of tables that are alike", () => {
  it("deleted rows are whole under the table they were of, and under another one none", { tags: "long", timeout: 120_000 }, () => {
    let [deleted, given, found, whole, never] = [0, 0, 0, 0, 0];
    for (let seed = 1; seed <= 60; seed += 1) {
      const { database, names, next, pick } = drawAlike(seed);
      const ever = new Set(linesOf(database, names));
      const table = pick(names);
      const [[most] = [0]] = database.exec(`select max(id) from ${table}`)[0]?.values ?? [];
      const from = 1 + next(Number(most) / 3);
      database.run(`delete from ${table} where id between ${from} and ${from + Number(most) / 2}`);
      const live = new Set(linesOf(database, names));
      deleted += ever.size - live.size;
      for (const { table: name, confidence, values } of deletedRows(database)) {
        const line = lineOf(name, values);
        if (confidence !== "part" && names.some((each) => ever.has(lineOf(each, values)))) given += 1;
        if (confidence !== "whole") continue;
        whole += 1;
        if (!ever.has(line)) never += 1;
        else if (!live.has(line)) found += 1;
      }
    }
    expect(never / whole).toBeLessThan(0.005);
    // Those that may be of another table as well are given as guesses.
    expect(given / deleted).toBeGreaterThan(0.75);
    expect(found / deleted).toBeGreaterThan(0.3);
  });

  it("one that was dropped leaves no whole row to another that has those numbers", { tags: "long", timeout: 120_000 }, () => {
    let [given, claimed] = [0, 0];
    for (let seed = 101; seed <= 140; seed += 1) {
      const { database, names } = drawAlike(seed);
      // The one with the fewest rows: others have all of its numbers.
      const count = (name: string) => Number(database.exec(`select count(*) from ${name}`)[0]?.values[0]?.[0]);
      const [dropped] = [...names].sort((a, b) => count(a) - count(b)) as [string];
      const itsOwn = new Set(linesOf(database, [dropped]).map((line) => line.replace(`"${dropped}"`, "")));
      database.run(`drop table ${dropped}`);
      // What declared it is written over.
      database.run(
        "create table newer(id integer primary key, a text, b text, c text, dd text, eee text, fff text, ggggg text, hhhhhh text)",
      );
      database.run("create index newer_by on newer(a, b, c, dd, eee)");
      for (const { table, confidence, values } of deletedRows(database)) {
        if (!itsOwn.has(lineOf("", values).replace('""', ""))) continue;
        given += 1;
        if (confidence === "whole" && table !== null && table !== dropped) claimed += 1;
      }
    }
    expect(given).toBeGreaterThan(1000);
    expect(claimed / given).toBeLessThan(0.005);
  });
});

/** What Python's sqlite3 wrote and deleted; tests/fixtures/make-alike-tables.py. */
function madeAlike(): { main: string; log: string; ever: string[]; live: string[] }[] {
  return JSON.parse(gunzipSync(readFileSync(join(import.meta.dirname, "../../tests/fixtures/records/alike-tables.json.gz"))).toString());
}

it("pages that went from one table to another are read by the one they were of when they were written", () => {
  let [deleted, found, whole, never] = [0, 0, 0, 0];
  const source = (text: string) => new MemorySource(Buffer.from(text, "base64"));
  for (const { main, log, ever, live } of madeAlike()) {
    const same = (line: string) => JSON.stringify(JSON.parse(line));
    const [all, counting] = [new Set(ever.map(same)), new Set(live.map(same))];
    deleted += all.size - counting.size;
    const reader = RecordReader.open({ main: source(main), log: source(log), journal: null }, { deleted: true });
    for (const { table, state, confidence, values } of reader?.rows() ?? []) {
      const line = lineOf(table, values);
      if (state === "live") {
        expect(counting).toContain(line);
        continue;
      }
      if (confidence !== "whole") continue;
      whole += 1;
      if (!all.has(line)) never += 1;
      else if (!counting.has(line)) found += 1;
    }
  }
  expect(deleted).toBeGreaterThan(1000);
  expect(never / whole).toBeLessThan(0.005);
  expect(found / deleted).toBeGreaterThan(0.6);
});

describe("rows of one table alone", () => {
  const filled = (declaration: string) => {
    const database = new sql.Database();
    database.run("pragma page_size=512; pragma secure_delete=0");
    database.run(`create table notes(${declaration}, body text)`);
    for (let id = 1; id <= 200; id += 1) database.run("insert into notes values(?, ?)", [id, `the first note of the number ${id}`]);
    return database;
  };
  const whole = (rows: readonly Row[]) => rows.filter(({ confidence, table }) => confidence === "whole" && table === "notes");

  it("are its own where it was cleared and filled anew with the same numbers, as no table was ever dropped", () => {
    const database = filled("id integer primary key");
    database.run("create index notes_by on notes(body)");
    database.run("delete from notes");
    for (let id = 1; id <= 20; id += 1) database.run("insert into notes values(?, ?)", [id, "another"]);
    const own = whole(deletedRows(database));
    expect(own.length).toBeGreaterThan(150);
    // A copy does not say what was dropped before: of the numbers that count again another table's rows may be left.
    const rest = whole(deletedRows(database, true));
    expect(rest.length).toBeGreaterThan(100);
    expect(rest.length).toBeLessThan(own.length);
  });

  it("are not sure to be its own where a table was dropped and it never came so far", () => {
    const database = filled("id integer primary key autoincrement");
    database.run("create table other(id integer primary key, body text)");
    for (let id = 1001; id <= 1200; id += 1) database.run("insert into other values(?, ?)", [id, `the other note of the number ${id}`]);
    database.run("drop table other");
    database.run("create table longer_than_that_one_was(id integer primary key, one text, two text, three text, four text)");
    const rows = deletedRows(database).filter(({ rowid }) => Number(rowid) > 1000);
    expect(rows.length).toBeGreaterThan(100);
    expect(rows.filter(({ table, confidence }) => table === "notes" && confidence === "whole")).toEqual([]);
  });

  it("are its own where it came so far once, a table dropped or not", () => {
    const database = filled("id integer primary key autoincrement");
    database.run("create table other(id integer primary key, at real, by real, cost real)");
    database.run("drop table other");
    database.run("delete from notes");
    for (let id = 1; id <= 20; id += 1) database.run("insert into notes values(?, ?)", [id, "another"]);
    expect(whole(deletedRows(database)).length).toBeGreaterThan(100);
  });
});

import { existsSync, mkdtempSync, readFileSync, rmSync, writeFileSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import initSql from "sql.js";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { recordsFiles } from "../tests/support/records-truth";
import { writeJoined } from "./join-records";

let work: string;
const paths: string[] = [];
beforeAll(() => {
  work = mkdtempSync(join(tmpdir(), "compass-join-"));
  for (const name of ["plain", "large-pages", "hot-journal"]) {
    for (const [file, bytes] of recordsFiles(name)) writeFileSync(join(work, `${name}${file.replace("data", "")}`), bytes);
    paths.push(join(work, `${name}.db`));
  }
});
afterAll(() => rmSync(work, { recursive: true, force: true }));

describe("a joined database", () => {
  it("is opened by SQLite, which finds nothing wrong with it; each row's origin stands beside it; nothing is replaced", {
    tags: "long",
  }, async () => {
    const to = join(work, "joined.db");
    const before = paths.map((path) => readFileSync(path));
    const { tables } = await writeJoined(paths, to);
    const sql = await initSql();
    const database = new sql.Database(readFileSync(to));
    expect(database.exec("pragma integrity_check")[0]?.values).toEqual([["ok"]]);
    for (const { name, rows } of tables) expect(database.exec(`select count(*) from "${name}"`)[0]?.values[0]?.[0]).toBe(rows.length);
    // The schema is the candidates' own, its unique index among it.
    const made = database.exec("select name from sqlite_master where sql is not null order by name")[0]?.values.flat();
    expect(made).toEqual(["looks", "marks", "notes", "notes_at", "notes_guid", "people", "sqlite_sequence"]);
    expect(database.exec("select count(*) from notes n left join people p on p.id = n.person_id where p.id is null")[0]?.values).toEqual([
      [0],
    ]);
    database.close();
    const list = readFileSync(`${to}.rows.csv`, "utf8").trim().split("\r\n");
    expect(list).toHaveLength(1 + tables.reduce((sum, { rows }) => sum + rows.length, 0));
    await expect(writeJoined(paths, to)).rejects.toThrow("there already");
    // The candidates are as they were: no log was taken in, no journal rolled back.
    expect(paths.map((path, i) => readFileSync(path).equals(before[i] as Buffer))).toEqual(paths.map(() => true));
    expect(existsSync(join(work, "hot-journal.db-journal"))).toBe(true);
  });

  it("has columns that are computed from others: SQLite computes them, nobody writes them", async () => {
    const sql = await initSql();
    const made = [
      [1, 2, 3],
      [3, 4],
    ].map((numbers, i) => {
      const database = new sql.Database();
      database.run("create table t(a integer, twice integer as (a * 2) virtual, thrice integer generated always as (a * 3) stored)");
      for (const number of numbers) database.run("insert into t(a) values(?)", [number]);
      const path = join(work, `computed${i}.db`);
      writeFileSync(path, database.export());
      database.close();
      return path;
    });
    const to = join(work, "computed.db");
    await writeJoined(made, to);
    const database = new sql.Database(readFileSync(to));
    expect(database.exec("select a, twice, thrice from t order by a")[0]?.values).toEqual([1, 2, 3, 4].map((a) => [a, a * 2, a * 3]));
    database.close();
  });

  it("of files that are none is refused in words", async () => {
    const none = join(work, "none.db");
    writeFileSync(none, "not a database");
    await expect(writeJoined([paths[0] as string, none], join(work, "other.db"))).rejects.toThrow("is no database");
  });
});

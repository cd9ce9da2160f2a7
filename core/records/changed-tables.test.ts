import { readFileSync } from "node:fs";
import { join } from "node:path";
import { gunzipSync } from "node:zlib";
import initSql, { type Database, type SqlJsStatic } from "sql.js";
import { beforeAll, describe, expect, it } from "vitest";
import { seeded } from "../../demo/draw";
import { cellsOf, openFixture, recordsFiles } from "../../tests/support/records-truth";
import { MemorySource } from "../bytes/byte-source";
import { RecordReader } from "./records";
import type { Row } from "./row";

let sql: SqlJsStatic;
beforeAll(async () => {
  sql = await initSql();
});

describe("rows whose pages were taken by others since", () => {
  const truth = JSON.parse(
    gunzipSync(readFileSync(join(import.meta.dirname, "../../tests/fixtures/records/reused-pages.json.gz"))).toString(),
  ) as {
    live: Record<string, unknown[][]>;
    ever: Record<string, unknown[][]>;
  };
  const rows = [...(openFixture(recordsFiles("reused-pages"), true)?.rows() ?? [])];
  const lines = (table: string, fits: (row: Row) => boolean) =>
    rows.filter((row) => row.table === table && fits(row)).map((row) => JSON.stringify(cellsOf(row)));

  it.each(["letters", "tags"])("of %s count as SQLite says", (table) => {
    expect(lines(table, ({ state }) => state === "live").sort()).toEqual(truth.live[table]?.map((row) => JSON.stringify(row)).sort());
  });

  it("are called whole only where all of them is what it was: long texts by the pages of their own time, entries of an index never", () => {
    for (const [table, fewest] of [
      ["letters", 50],
      ["tags", 50],
    ] as const) {
      const ever = new Set(truth.ever[table]?.map((row) => JSON.stringify(row)));
      const whole = lines(table, ({ state, confidence }) => state === "deleted" && confidence === "whole");
      expect(whole.filter((line) => !ever.has(line))).toEqual([]);
      expect(new Set(whole).size).toBeGreaterThan(fewest);
    }
  });
});

const WORDS = ["tide", "lantern", "orchard", "rivet", "größe", "観測", "day"];
const DECLARED = ["integer", "int", "real", "text", "varchar(30)", "blob", "", "numeric", "date"];

/** A database of tables drawn by lot, filled, changed and widened; every row that ever stood in each. */
function drawn(seed: number): { database: Database; ever: Map<string, Set<string>> } {
  const random = seeded(seed);
  const next = (below: number) => Math.floor(random() * below);
  const pick = <T>(from: readonly T[]) => from[next(from.length)] as T;
  const database = new sql.Database();
  database.run(`pragma page_size=${pick([512, 1024, 4096, 65_536])}; pragma encoding='${pick(["UTF-8", "UTF-16le", "UTF-16be"])}'`);
  database.run(`pragma auto_vacuum=${next(3)}; pragma secure_delete=0`);
  const text = () => Array.from({ length: pick([0, 1, 3, 8, 200]) }, () => pick(WORDS)).join(" ");
  const value = (declared: string) => {
    if (next(10) === 0) return null;
    if (/int/.test(declared)) return pick([next(400) - 200, next(2 ** 31), 0, 1, 1_700_000_000_000 + next(1e9)]);
    if (declared === "real") return random() * 1000;
    if (/text|char/.test(declared)) return text();
    return pick([next(1000), random(), text(), new Uint8Array(next(20)).map(() => next(256))]);
  };
  const ever = new Map<string, Set<string>>();
  const remember = (table: string) => {
    for (const row of rowsOf(database, table)) ever.get(table)?.add(row);
  };
  for (let t = 0; t < 3; t += 1) {
    const table = `t${t}`;
    const columns = Array.from({ length: 1 + next(6) }, (_, i) => ({ name: `c${i}`, declared: pick(DECLARED) }));
    const kind = next(3);
    const key = kind === 1 ? ', "id" integer primary key' : kind === 2 ? ', "k" text, primary key("k")' : "";
    const list = columns.map(({ name, declared }) => `"${name}" ${declared}`).join(", ");
    database.run(`create table ${table}(${list}${key})${kind === 2 ? " without rowid" : ""}`);
    if (next(2) === 0) database.run(`create index ${table}_i on ${table}("c0")`);
    ever.set(table, new Set());
    const fill = (many: number) => {
      for (let i = 0; i < many; i += 1) {
        const values = columns.map(({ declared }) => value(declared));
        if (kind === 2) values.push(`${pick(WORDS)} ${next(1e6)}`);
        const names = [...columns.map(({ name }) => `"${name}"`), ...(kind === 2 ? ['"k"'] : [])];
        database.run(`insert or ignore into ${table}(${names.join()}) values(${names.map(() => "?").join()})`, values);
      }
      remember(table);
    };
    for (let step = 0; step < 5; step += 1) {
      fill(pick([1, 20, 80]));
      const id = kind === 2 ? "k" : "rowid";
      const ids = (database.exec(`select ${id} from ${table} order by 1`)[0]?.values ?? []).map(([each]) => each as string | number);
      const [gone, share] = [next(2) === 0, pick([2, 3, 10])];
      for (const each of ids) if (gone && next(share) === 0) database.run(`delete from ${table} where ${id} = ?`, [each]);
      const changed = next(4) === 0;
      for (const each of ids) if (changed && next(4) === 0) database.run(`update ${table} set c0 = null where ${id} = ?`, [each]);
      remember(table);
    }
  }
  return { database, ever };
}

const lineOf = (values: readonly unknown[]) =>
  JSON.stringify(values.map((value) => (value instanceof Uint8Array ? Buffer.from(value).toString("hex") : (value ?? null))));
const rowsOf = (database: Database, table: string) => (database.exec(`select * from ${table}`)[0]?.values ?? []).map(lineOf);

describe("tables of any kind", () => {
  it("are read as SQLite itself reads them, and hardly a row is called whole that never was", { tags: "long", timeout: 120_000 }, () => {
    let [whole, never] = [0, 0];
    for (let seed = 1; seed <= 20; seed += 1) {
      const { database, ever } = drawn(seed);
      const wanted = new Map([...ever.keys()].map((table) => [table, rowsOf(database, table).sort()]));
      const bytes = database.export();
      const reader = RecordReader.open({ main: new MemorySource(bytes), log: null, journal: null }, { deleted: true });
      const rows = [...(reader?.rows() ?? [])];
      for (const [table, lines] of wanted)
        expect(
          rows
            .filter((row) => row.table === table && row.state === "live")
            .map((row) => lineOf(row.values))
            .sort(),
          `seed ${seed}, ${table}`,
        ).toEqual(lines);
      for (const { table, state, confidence, values } of rows) {
        if (state !== "deleted" || confidence !== "whole") continue;
        whole += 1;
        if (!ever.get(table ?? "")?.has(lineOf(values))) never += 1;
      }
    }
    console.log(`${whole} deleted rows called whole, ${never} of them never were`);
    expect(whole).toBeGreaterThan(600);
    expect(never / whole).toBeLessThan(0.01);
  });

  it("give no value to a column that is computed when it is read", () => {
    const database = new sql.Database();
    database.run(
      "create table t(a integer, twice integer generated always as (a * 2) virtual, kept text generated always as (a || '!') stored)",
    );
    database.run("insert into t(a) values(4)");
    const reader = RecordReader.open({ main: new MemorySource(database.export()), log: null, journal: null }, { deleted: false });
    database.close();
    expect([...(reader?.rows() ?? [])].map(({ columns, values }) => [columns, values])).toEqual([
      [
        ["a", "twice", "kept"],
        [4, undefined, "4!"],
      ],
    ]);
  });
});

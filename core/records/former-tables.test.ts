import { readFileSync } from "node:fs";
import { join } from "node:path";
import { gunzipSync } from "node:zlib";
import initSql, { type SqlJsStatic } from "sql.js";
import { beforeAll, describe, expect, it } from "vitest";
import { seeded } from "../../demo/draw";
import { openFixture, recordsFiles } from "../../tests/support/records-truth";
import { MemorySource } from "../bytes/byte-source";
import { RecordReader } from "./records";
import type { Row } from "./row";

type Cells = Readonly<Record<string, unknown>>;

const cellsOf = ({ columns, values }: Pick<Row, "columns" | "values">): Cells =>
  Object.fromEntries(columns.map((name, i) => [name, values[i]]));
const lines = (rows: readonly Cells[]) => rows.map((row) => JSON.stringify(row)).sort();

/** What Python's sqlite3 wrote and counted; tests/fixtures/make-former-tables.py. */
function made(name: string): { live: Record<string, Cells[]>; former: Cells[]; rows: Row[]; notes: readonly string[] } {
  const bytes = readFileSync(join(import.meta.dirname, `../../tests/fixtures/records/former-${name}.json.gz`));
  const reader = openFixture(recordsFiles(`former-${name}`), true);
  const rows = [...(reader?.rows() ?? [])];
  return { ...JSON.parse(gunzipSync(bytes).toString()), rows, notes: reader?.notes ?? [] };
}

const CHANGES = ["dropped", "made-anew", "without-a-column"] as const;

describe("tables that were dropped or changed", () => {
  it.each(["plain", "log"].flatMap((mode) => CHANGES.map((change) => `${mode}-${change}`)))("leave what counts as it is: %s", (name) => {
    const { live, rows } = made(name);
    for (const [table, wanted] of Object.entries(live))
      expect(lines(rows.filter((row) => row.table === table && row.state === "live").map(cellsOf))).toEqual(lines(wanted));
    expect(rows.filter(({ former, state }) => former && state === "live")).toEqual([]);
  });

  it.each(["plain-dropped", "log-dropped", "log-made-anew", "log-without-a-column"])(
    "give their rows under the names they had then, each once, and none that never was: %s",
    (name) => {
      const { former, rows, notes } = made(name);
      expect(notes.join(" ")).toContain("may count in another table or form");
      const found = rows.filter((row) => row.former && row.confidence === "whole");
      expect(found.every(({ table, state }) => table === "letters" && state === "deleted")).toBe(true);
      const all = new Set(lines(former));
      const given = lines(found.map(cellsOf));
      expect(given.filter((line) => !all.has(line))).toEqual([]);
      expect(new Set(given).size).toBe(given.length);
      // Of one long row the page it goes on to was made a list of the free ones.
      expect(given.length).toBeGreaterThanOrEqual(former.length - (name === "plain-dropped" ? 1 : 0));
    },
  );

  it("give rows without names where the list of tables was overwritten, as far as their pages are free", () => {
    const { former, rows } = made("plain-made-anew");
    const found = rows.filter((row) => row.state === "deleted" && row.table === null);
    // A row's number stands beside its record, not in it.
    const wanted = new Set(former.map(({ id, ...rest }) => JSON.stringify([id, null, ...Object.values(rest)])));
    const given = found.map(({ rowid, values }) => JSON.stringify([rowid, ...values]));
    expect(given.filter((line) => !wanted.has(line))).toEqual([]);
    expect(new Set(given).size).toBeGreaterThan(former.length * 0.9);
  });
});

describe("tables drawn by lot and dropped", () => {
  let sql: SqlJsStatic;
  beforeAll(async () => {
    sql = await initSql();
  });
  const KINDS = ["integer", "text", "real", "blob", "varchar(20)", "numeric"];

  it("are found again where nothing was written since, and hardly a row is called whole that never was", {
    tags: "long",
    timeout: 120_000,
  }, () => {
    let [stood, found, whole, never] = [0, 0, 0, 0];
    for (let seed = 1; seed <= 40; seed += 1) {
      const random = seeded(seed);
      const next = (below: number) => Math.floor(random() * below);
      const pick = <T>(from: readonly T[]) => from[next(from.length)] as T;
      const database = new sql.Database();
      database.run(
        `pragma page_size=${pick([512, 1024, 4096, 16_384])}; pragma secure_delete=0; pragma encoding='${pick(["UTF-8", "UTF-16le"])}'`,
      );
      const text = () => Array.from({ length: pick([1, 2, 6, 60]) }, () => pick(["tide", "lantern", "größe", "観測", "rivet"])).join(" ");
      const value = (kind: string) =>
        next(8) === 0
          ? null
          : kind === "integer" || kind === "numeric"
            ? pick([next(300), 1_700_000_000 + next(1e6), 1])
            : kind === "real"
              ? random() * 99
              : kind === "blob"
                ? new Uint8Array(next(30)).map(() => next(256))
                : text();
      const ever = new Set<string>();
      const fill = (table: string, columns: readonly string[], count: number) => {
        for (let row = 0; row < count; row += 1)
          database.run(`insert into ${table} values(null, ${columns.map(() => "?").join()})`, columns.map(value));
        const rows = database.exec(`select * from ${table}`)[0]?.values ?? [];
        for (const row of rows)
          ever.add(JSON.stringify([table, ...row.slice(1).map((cell) => (cell instanceof Uint8Array ? [...cell] : cell))]));
        return rows.length;
      };
      const tables = Array.from({ length: 3 }, (_, i) => ({
        name: `t${i}`,
        columns: Array.from({ length: 2 + next(6) }, () => pick(KINDS)),
      }));
      for (const { name, columns } of tables)
        database.run(`create table ${name}(id integer primary key, ${columns.map((kind, i) => `c${i} ${kind}`).join()})`);
      const counts = tables.map(({ name, columns }) => fill(name, columns, pick([5, 60, 300])));
      const at = next(3);
      database.run(`drop table t${at}`);
      stood += counts[at] as number;
      const reader = RecordReader.open({ main: new MemorySource(database.export()), log: null, journal: null }, { deleted: true });
      for (const { table, state, confidence, values } of reader?.rows() ?? []) {
        if (state === "live" || confidence !== "whole" || table === null) continue;
        whole += 1;
        const line = JSON.stringify([table, ...values.slice(1).map((cell) => (cell instanceof Uint8Array ? [...cell] : (cell ?? null)))]);
        if (!ever.has(line)) never += 1;
        else if (table === `t${at}`) found += 1;
      }
    }
    expect(found / stood).toBeGreaterThan(0.9);
    expect(never / whole).toBeLessThan(0.005);
  });
});

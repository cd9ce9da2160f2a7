import { mkdtempSync, readFileSync, writeFileSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { beforeAll, describe, expect, it } from "vitest";
import { compass } from "../tests/support/command-line";
import { recordsFiles, recordsTruth } from "../tests/support/records-truth";

const work = mkdtempSync(join(tmpdir(), "compass-records-"));
const place = (name: string) => join(work, `${name}.db`);

beforeAll(() => {
  for (const name of ["log", "plain"])
    for (const [file, bytes] of recordsFiles(name)) writeFileSync(join(work, `${name}${file.replace("data", "")}`), bytes);
});

describe("the command line, for databases", () => {
  it("records writes a line for each row in the promised form, what is left of others only when asked", () => {
    const { live, columns } = recordsTruth("log");
    const { code, lines } = compass("records", place("log"), "--table", "notes", "--json");
    expect(code).toBe(0);
    const rows = lines();
    expect(rows).toHaveLength(live.notes?.length as number);
    for (const row of rows) {
      expect(Object.keys(row)).toEqual(["table", "rowid", "state", "confidence", "values", "at", "from"]);
      expect(Object.keys(row.values as object)).toEqual(columns.notes);
    }
    const all = compass("records", place("log"), "--deleted", "--json").lines();
    expect(all.some(({ state, from }) => state === "deleted" && from === "log")).toBe(true);
    // A blob is written in hexadecimal digits.
    expect(
      all
        .filter(({ table }) => table === "looks")
        .every(({ values }) => /^[0-9a-f]*$/.test(String((values as { "kept for": string })["kept for"]))),
    ).toBe(true);
  }, 60_000);

  it("join writes one database, and says of each table what it found", () => {
    const to = join(work, "joined.db");
    const { code, lines, err } = compass("join", place("log"), place("plain"), "--to", to, "--json");
    expect(code).toBe(0);
    expect(err).toMatch(/rows that were written and never committed are left out/);
    const notes = lines().find(({ table }) => table === "notes");
    expect(Number(notes?.rows)).toBeGreaterThan(700);
    expect(compass("records", to, "--table", "notes", "--json").lines()).toHaveLength(Number(notes?.rows));
    const again = compass("join", place("log"), place("plain"), "--to", to);
    expect(again.code).toBe(3);
    expect(again.err).toContain("is there already");
  }, 60_000);

  it("records writes a line for each value of a file of settings, and says what is wrong with a damaged one", () => {
    const made = JSON.parse(readFileSync(join(import.meta.dirname, "../tests/fixtures/settings.json"), "utf8")) as {
      binary: string;
      ini: string;
    };
    const list = Buffer.from(made.binary, "base64");
    const put = (name: string, bytes: string | Uint8Array) => {
      writeFileSync(join(work, name), bytes);
      return join(work, name);
    };
    const lines = (path: string) => {
      const { code, lines, err } = compass("records", path, "--json");
      return { code, err, rows: lines() as unknown as { confidence: string; values: { name: string; value: string } }[] };
    };
    const sound = lines(put("a.plist", list));
    expect([sound.code, sound.rows[0]]).toEqual([
      0,
      {
        table: null,
        rowid: null,
        state: "live",
        confidence: "whole",
        values: { name: "Observer", value: "Tove Brask" },
        at: null,
        from: "main",
      },
    ]);
    const damaged = lines(put("b.plist", list.subarray(0, list.length - 40)));
    expect(damaged.rows.map(({ values }) => values)).toEqual(sound.rows.map(({ values }) => values));
    expect(damaged.rows.every(({ confidence }) => confidence === "part")).toBe(true);
    expect([damaged.code, damaged.err]).toEqual([1, expect.stringContaining("Its end is gone")]);
    const cut = lines(put("c.json", '{"a":{"b":[true,"x"]},"c":"y'));
    expect(cut.rows.map(({ values }) => [values.name, values.value])).toEqual([
      ["a/b", "2 values"],
      ["a/b/1", "true"],
      ["a/b/2", "x"],
      ["c", "damaged"],
    ]);
    // Units of two bytes, without a mark.
    expect(lines(put("d.ini", Buffer.from(made.ini, "utf16le"))).rows.length).toBe(lines(put("e.ini", made.ini)).rows.length);
  }, 60_000);

  it("refuses in words what is no database, and a call that lacks something", () => {
    const none = join(work, "none.txt");
    writeFileSync(none, "nothing");
    expect(compass("records", none)).toMatchObject({ code: 3, err: expect.stringContaining("no database") });
    expect(compass("join", none)).toMatchObject({ code: 2 });
  });
});

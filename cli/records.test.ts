import { mkdtempSync, writeFileSync } from "node:fs";
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

  it("refuses in words what is no database, and a call that lacks something", () => {
    const none = join(work, "none.txt");
    writeFileSync(none, "nothing");
    expect(compass("records", none)).toMatchObject({ code: 3, err: expect.stringContaining("no database") });
    expect(compass("join", none)).toMatchObject({ code: 2 });
  });
});

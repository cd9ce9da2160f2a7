import { mkdirSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import Papa from "papaparse";
import initSql from "sql.js";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { storedCopy } from "../../server/previews/content";
import { recordCandidatesOf } from "../../server/records/candidates";
import { type ExportPart, entriesQuery, recordsQuery } from "../../server/records/contract";
import { entriesOf } from "../../server/records/entries";
import { exportEntries } from "../../server/records/exports";
import { joinedDatabase } from "../../server/records/joined";
import { mentionedFilesOf } from "../../server/records/mentioned";
import { recordsAsCsv, recordsOf } from "../../server/records/read";
import { rowStateText } from "../../server/words/contract";
import { readFolder, startTestBench, type TestBench } from "../support/bench";
import { longChat } from "../support/long-chat";
import { recordsFiles, recordsTruth } from "../support/records-truth";

let bench: TestBench;
let jobId: number;
/** The copies of the databases, by the folder they lie in. */
const copies = new Map<string, number>();

/** Files beside the databases, with their sizes in bytes. */
const FILES = { "rota.csv": 700, "other name.png": 900, "plan.txt.part": 300, "spoken.of.txt": 10, "another.pdf": 900 };

/** A chat whose texts and names would run where they are not escaped, made by SQLite itself (the package sql.js). */
async function hostileChat(): Promise<Uint8Array> {
  const sql = await initSql();
  const database = new sql.Database();
  database.run(
    "create table folk(id integer primary key, name text, mail text); insert into folk values(1, 'Ada <b>Quill</b>', 'ada@mail.example')",
  );
  database.run("create table lines(id integer primary key, folk_id integer, body text, sent integer)");
  for (let i = 0; i < 40; i += 1) {
    const text = i === 20 ? "Look at spoken.of.txt please" : `A line of number ${i} <script>alert(1)</script>`;
    database.run("insert into lines values(?, 1, ?, ?)", [i + 1, text, Date.UTC(2025, 4, 1) + i * 60_000]);
  }
  database.run(
    "create table attachments(id integer primary key, line_id integer, file_name text, file_size integer, kept text, done integer)",
  );
  for (const [i, [name, size]] of [
    ["rota.csv", 700],
    ["moon.png", 900],
    ["plan.txt", 800],
    ["gone.pdf", 5000],
  ].entries())
    database.run("insert into attachments values(?, ?, ?, ?, ?, ?)", [
      i + 1,
      i + 1,
      name as string,
      size as number,
      `C:\\Received\\${name}`,
      Date.UTC(2025, 4, 1) + i,
    ]);
  const bytes = database.export();
  database.close();
  return bytes;
}

/** Rows of a chat that is longer than what one answer can come to. */
const LONG = 130_000;

beforeAll(async () => {
  bench = await startTestBench();
  const folder = join(bench.sources, "profiles");
  for (const name of ["plain", "small-pages", "first-page-zeroed", "former-plain-dropped", "former-log-made-anew"]) {
    mkdirSync(join(folder, name), { recursive: true });
    for (const [file, bytes] of recordsFiles(name)) writeFileSync(join(folder, name, file), bytes);
  }
  mkdirSync(join(folder, "hostile"));
  writeFileSync(join(folder, "hostile", "data.db"), await hostileChat());
  mkdirSync(join(folder, "long"));
  writeFileSync(join(folder, "long", "data.db"), await longChat(LONG, 5));
  for (const [name, size] of Object.entries(FILES)) writeFileSync(join(folder, name), Buffer.alloc(size, name));
  writeFileSync(join(folder, "none.db"), "no database".repeat(100));
  const read = await readFolder(bench, folder, "Profiles");
  jobId = read.jobId;
  const { items } = read;
  for (const { folder: path, name, bestCopyId } of items)
    if (name === "data.db") copies.set(path.split("/").at(-1) as string, bestCopyId as number);
}, 120_000);
afterAll(() => bench.close());

/** Asks until all of a database was read: how far one answer comes is a matter of time. */
async function whenRead<Page extends { working?: unknown; reading?: number | null }>(ask: () => Promise<Page>): Promise<Page> {
  for (;;) {
    const page = await ask();
    if (page.working == null && page.reading == null) return page;
  }
}

describe("the databases of one kind in a job", () => {
  it("are found by their tables, with how far each goes; one without its first page is named and not compared", async () => {
    const found = await recordCandidatesOf(bench.db, await storedCopy(bench.db, copies.get("plain") as number));
    expect(found.candidates.map(({ copyId }) => copyId).sort()).toEqual([copies.get("plain"), copies.get("small-pages")].sort());
    expect(found.by).toMatchObject({ table: "notes", column: "at_ms" });
    const times = recordsTruth("plain").live.notes?.map((row) => Number(row[4])) ?? [];
    const own = found.candidates.find(({ copyId }) => copyId === copies.get("plain"));
    expect(own?.last).toBe(Math.max(...times));
    expect(own?.months.reduce((sum, [, live]) => sum + live, 0)).toBe(times.length);
    expect(found.notes.join(" ")).toMatch(/first-page-zeroed\/data\.db: the names of its tables are gone/);
  });

  it("that have too many rows are not held against one another, and go as far all the same", async () => {
    const copy = await storedCopy(bench.db, copies.get("plain") as number);
    const [all, few] = [await recordCandidatesOf(bench.db, copy), await recordCandidatesOf(bench.db, copy, 100)];
    expect(few.candidates).toEqual(all.candidates.map((each) => ({ ...each, only: null })));
    expect([few.by, few.joined]).toEqual([all.by, null]);
    expect(few.notes.join(" ")).toContain("They have more than 100 rows together");
  });

  it("become one database, of copies of this job only", async () => {
    const chosen = [copies.get("plain") as number, copies.get("small-pages") as number];
    const sql = await initSql();
    const database = new sql.Database(await joinedDatabase(bench.db, jobId, chosen));
    expect(database.exec("pragma integrity_check")[0]?.values).toEqual([["ok"]]);
    const live = ["plain", "small-pages"].reduce((sum, name) => sum + (recordsTruth(name).live.notes?.length ?? 0), 0);
    expect(Number(database.exec("select count(*) from notes")[0]?.values[0]?.[0])).toBeGreaterThan(live);
    database.close();
    await expect(joinedDatabase(bench.db, jobId + 1, chosen)).rejects.toThrow("no such copy in this job");
  });

  it("are read as one: every message once, with which of them have it, narrowed by person and time", async () => {
    const [first, second] = [copies.get("plain") as number, copies.get("small-pages") as number];
    const copy = await storedCopy(bench.db, first);
    const entries = (query: Record<string, string>) => whenRead(() => entriesOf(bench.db, copy, entriesQuery.parse(query)));
    const asked = (query: Record<string, string>) => entries({ with: String(second), ...query });
    const all = await asked({});
    expect(all.kind).toBe("messages");
    expect(all.together.map(({ copyId }) => copyId)).toEqual([first, second]);
    expect(all.together[1]?.where).toMatch(/small-pages$/);
    const live = ["plain", "small-pages"].reduce((sum, name) => sum + (recordsTruth(name).live.notes?.length ?? 0), 0);
    expect(all.matched).toBeGreaterThan(live * 0.9);
    expect(new Set(all.entries.flatMap((entry) => entry.in ?? []))).toEqual(new Set([0, 1]));
    // What one of them says of a deleted row is not made more of by reading several.
    const alone = (await entries({ only: "deleted" })).entries;
    const parts = new Set(alone.filter(({ confidence }) => confidence === "part").map(({ text }) => text));
    const shared = (await asked({ only: "deleted" })).entries.filter(
      (entry) => entry.in?.length === 1 && entry.in[0] === 0 && parts.has(entry.text),
    );
    const whole = new Set(alone.filter(({ confidence }) => confidence === "whole").map(({ text }) => text));
    for (const { text, confidence } of shared) if (!whole.has(text)) expect(confidence).toBe("part");
    const person = all.persons[0]?.name as string;
    const own = await asked({ who: person });
    expect(own.matched).toBe(all.persons[0]?.entries);
    expect(own.entries.every(({ who }) => who === person)).toBe(true);
    // A month and the rest of time are all there is.
    const month = new Date(all.entries[100]?.at as number).toISOString().slice(0, 7);
    const before = `${new Date(Date.UTC(Number(month.slice(0, 4)), Number(month.slice(5)) - 1, 0)).toISOString().slice(0, 10)}`;
    const until = (await asked({ until: before })).matched;
    const since = (await asked({ since: month })).matched;
    expect(until + since).toBe(all.matched);
    expect((await asked({ since: month, until: month })).matched).toBeGreaterThan(0);
    await expect(asked({ with: "999999" })).rejects.toThrow("no such copy in this job");
  });

  it("show rows of a table that was dropped, or made anew, under the columns it had then", async () => {
    for (const [name, left] of [
      ["former-plain-dropped", ["kept"]],
      ["former-log-made-anew", ["kept", "letters"]],
    ] as const) {
      const copy = await storedCopy(bench.db, copies.get(name) as number);
      const { tables } = await whenRead(() => recordsOf(bench.db, copy, recordsQuery.parse({})));
      expect(tables.filter(({ live }) => live > 0).map((table) => table.name)).toEqual([...left]);
      const former = "letters, as it was before";
      expect(tables.find((table) => table.name === former)).toMatchObject({ live: 0, deleted: 160 });
      const shown = await recordsOf(bench.db, copy, recordsQuery.parse({ table: former }));
      expect(shown.columns.map((column) => column.name)).toEqual(["id", "who", "body", "sent", "stars"]);
      expect(shown.columns[3]?.time).toMatch(/1970/);
      expect(shown.rows.every(({ state, former: isFormer }) => state === "deleted" && isFormer)).toBe(true);
      expect(shown.rows.map(rowStateText)).toContain("of a former table, all of it stands");
      const said = await whenRead(() => entriesOf(bench.db, copy, entriesQuery.parse({ only: "deleted" })));
      expect(said.kind).toBe("messages");
      // Of one only the beginning stands.
      expect(said.matched).toBeGreaterThanOrEqual(159);
    }
  });

  it("of which one is long is shown while it is read, then in its order and searched to its last row", async () => {
    const copy = await storedCopy(bench.db, copies.get("long") as number);
    const asked = (query: Record<string, unknown>) => recordsOf(bench.db, copy, recordsQuery.parse({ table: "lines", ...query }));
    const first = await asked({});
    expect(first.reading).toBeGreaterThan(0);
    expect(first.rows).toHaveLength(200);
    let [answers, before] = [1, first.matched];
    for (let page = await asked({}); page.reading !== null; page = await asked({})) {
      expect(page.matched).toBeGreaterThanOrEqual(before);
      before = page.matched;
      answers += 1;
    }
    expect(answers).toBeGreaterThan(1);
    expect(await asked({ find: `line ${LONG} of` })).toMatchObject({ matched: 1, next: null, reading: null });
    expect((await asked({ from: LONG - 1 })).rows[0]?.cells[0]).toBe(String(LONG));
    const entries = (query: Record<string, unknown>) => entriesOf(bench.db, copy, entriesQuery.parse(query));
    let talk = await entries({});
    for (; talk.working; talk = await entries({})) expect(talk.entries).toEqual([]);
    expect(talk).toMatchObject({ kind: "messages", matched: LONG });
    expect((await entries({ find: "THE DOME", who: "Member 1" })).matched).toBe(Math.floor(LONG / 35));
    const [last] = (await entries({ from: LONG - 1 })).entries;
    expect(last).toMatchObject({
      at: Date.UTC(2020, 0, 1) + LONG * 600_000,
      who: "Member 1",
      text: expect.stringContaining(`line ${LONG} of`),
    });
  });

  it("of which one is long is written part by part: every row once", async () => {
    const copy = await storedCopy(bench.db, copies.get("long") as number);
    const parts: string[] = [];
    const query = recordsQuery.parse({ table: "lines", find: "the dome" });
    for (let from: number | null = 0; from !== null; ) {
      const part: ExportPart = await recordsAsCsv(bench.db, copy, { ...query, from });
      parts.push(part.text);
      from = part.next;
    }
    expect(parts.length).toBeGreaterThan(1);
    const { data } = Papa.parse<string[]>(parts.join(""));
    expect(data[0]?.slice(0, 3)).toEqual(["state", "confidence", "id"]);
    expect(data.slice(1).map(([, , id]) => Number(id))).toEqual(Array.from({ length: Math.floor(LONG / 7) }, (_, i) => 7 * (i + 1)));
    const written: string[] = [];
    for (let from: number | null = 0; from !== null; ) {
      const part: ExportPart = await exportEntries(bench.db, copy, { ...entriesQuery.parse({ find: "the dome" }), from }, "json");
      written.push(part.text);
      from = part.next;
    }
    expect(written.length).toBeGreaterThan(1);
    const { entries } = JSON.parse(written.join("")) as { entries: { text: string }[] };
    expect(new Set(entries.map(({ text }) => text)).size).toBe(Math.floor(LONG / 7));
    await expect(exportEntries(bench.db, copy, entriesQuery.parse({}), "html")).rejects.toThrow("too many for one page");
  });

  it("are written as a page in which nothing runs, and as JSON, narrowed as they are shown", async () => {
    const copy = await storedCopy(bench.db, copies.get("hostile") as number);
    const { text: page } = await exportEntries(bench.db, copy, entriesQuery.parse({}), "html");
    expect(page).toContain("&#60;script&#62;alert(1)&#60;/script&#62;");
    expect(page).not.toMatch(/<script|<img|<a /);
    expect(page).toContain("40 messages. Times are in UTC.");
    const { text: json } = await exportEntries(bench.db, copy, entriesQuery.parse({ find: "number 7" }), "json");
    const { entries } = JSON.parse(json) as { entries: { text: string; who: string; at: number }[] };
    expect(entries).toEqual([expect.objectContaining({ text: "A line of number 7 <script>alert(1)</script>", who: "Ada <b>Quill</b>" })]);
  });

  it("speak of files, which are found by name and size, by size and type, or said to be missing", async () => {
    const copy = await storedCopy(bench.db, copies.get("hostile") as number);
    const { files } = await whenRead(() => mentionedFilesOf(bench.db, copy, []));
    const listed = files.map(({ name, found }) => [name, found.map((each) => [each.name, each.like])]);
    expect(listed).toEqual([
      ["rota.csv", [["rota.csv", "name-size"]]],
      ["moon.png", [["other name.png", "size-type"]]],
      ["plan.txt", [["plan.txt.part", "part"]]],
      ["gone.pdf", []],
      ["spoken.of.txt", [["spoken.of.txt", "name-only"]]],
    ]);
    expect(files[0]?.path).toBe("C:\\Received\\rota.csv");
  });
});

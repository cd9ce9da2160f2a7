import { mkdirSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import initSql from "sql.js";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { storedCopy } from "../../server/previews/content";
import { joinedDatabase, recordCandidatesOf } from "../../server/records/candidates";
import { readFolder, startTestBench, type TestBench } from "../support/bench";
import { recordsFiles, recordsTruth } from "../support/records-truth";

let bench: TestBench;
let jobId: number;
/** The copies of the databases, by the folder they lie in. */
const copies = new Map<string, number>();

beforeAll(async () => {
  bench = await startTestBench();
  const folder = join(bench.sources, "profiles");
  for (const name of ["plain", "small-pages", "first-page-zeroed"]) {
    mkdirSync(join(folder, name), { recursive: true });
    for (const [file, bytes] of recordsFiles(name)) writeFileSync(join(folder, name, file), bytes);
  }
  writeFileSync(join(folder, "none.db"), "no database".repeat(100));
  const read = await readFolder(bench, folder, "Profiles");
  jobId = read.jobId;
  const { items } = read;
  for (const { folder: path, name, bestCopyId } of items)
    if (name === "data.db") copies.set(path.split("/").at(-1) as string, bestCopyId as number);
}, 120_000);
afterAll(() => bench.close());

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
});

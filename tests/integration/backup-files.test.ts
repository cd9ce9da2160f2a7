import { writeFileSync } from "node:fs";
import { join } from "node:path";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { EMPTY_ACCOUNT } from "../../core/plan/account";
import { saveAccounts } from "../../server/accounts/commands";
import type { Account } from "../../server/accounts/contract";
import { itemQuery } from "../../server/items/contract";
import { listItems } from "../../server/items/list";
import { createJob } from "../../server/jobs/commands";
import { startPass } from "../../server/passes/commands";
import { listPasses } from "../../server/passes/queries";
import { plan } from "../../server/plan/contract";
import { findPlan } from "../../server/plan/queries";
import { addSource } from "../../server/sources/commands";
import { listSources } from "../../server/sources/queries";
import { backupFile, backupJson, damagedBackups, type TapeTruth } from "../support/backup-truth";
import { startTestBench, type TestBench, until } from "../support/bench";

let bench: TestBench;
beforeAll(async () => {
  bench = await startTestBench();
  bench.worker();
}, 90_000);
afterAll(() => bench.close());

async function jobOf(title: string, name: string, bytes: Uint8Array): Promise<{ jobId: number; storeId: number }> {
  writeFileSync(join(bench.sources, name), bytes);
  const jobId = await createJob(bench.db, { title, client: "" });
  await addSource(bench.db, jobId, join(bench.sources, name));
  const [source] = await listSources(bench.db, jobId);
  return { jobId, storeId: source?.volumes[0]?.id as number };
}

async function read(jobId: number, storeId: number, place: "file-record" | "thorough", options = {}) {
  await startPass(bench.db, jobId, storeId, place, options);
  await until(async () => (await listPasses(bench.db, jobId)).every(({ state }) => state === "done" || state === "failed"), 60);
  const passes = await listPasses(bench.db, jobId);
  expect(passes.map(({ state, problem }) => problem ?? state)).toEqual(passes.map(() => "done"));
}

const counted = async (jobId: number) => {
  const { rows } = await bench.pool.query<{ condition: string; count: number }>(
    "select condition, count(*)::int as count from copies where job_id = $1 and type = 'file' group by 1",
    [jobId],
  );
  return Object.fromEntries(rows.map(({ condition, count }) => [condition, count]));
};

describe("a backup file as a source", () => {
  it("read lightly lists everything as not checked; read thoroughly then, the same copies are judged, and none is stored twice", async () => {
    const { jobId, storeId } = await jobOf("Sound", "sound.bkf", backupFile("tape.bkf"));
    await read(jobId, storeId, "file-record");
    const files = backupJson<TapeTruth>("tape.json").entries.filter(({ type }) => type === "file");
    const light = await counted(jobId);
    expect(Object.values(light).reduce((sum, count) => sum + count, 0)).toBe(files.length);
    // Whole by the light reading are those of no bytes.
    expect(light.whole ?? 0).toBe(files.filter(({ size }) => size === 0).length);
    await read(jobId, storeId, "thorough");
    const deep = await counted(jobId);
    expect(Object.values(deep).reduce((sum, count) => sum + count, 0)).toBe(files.length);
    expect(deep.whole).toBeGreaterThan((light.whole ?? 0) + 20);
    // What only a backup has is gone from where it was.
    await saveAccounts(bench.db, jobId, [{ ...EMPTY_ACCOUNT, cause: "backup-closed" } as Account]);
    // The plan tells what its steps found, as the screen reads it.
    const steps = plan.parse(await findPlan(bench.db, jobId)).steps;
    expect(steps.find(({ kind }) => kind === "file-records")?.found).toEqual([{ place: "backup", count: files.length }]);
    const { items } = await listItems(bench.db, jobId, itemQuery.parse({ limit: 500 }));
    expect(items.length).toBe(new Set(files.map(({ path }) => path)).size);
  }, 120_000);

  it("that is damaged gives more when it is read thoroughly, or a part of it", async () => {
    const { bytes } = damagedBackups("tape-damaged").find(({ name }) => name === "open-tape-slip-1") ?? { bytes: new Uint8Array() };
    const { jobId, storeId } = await jobOf("Slipped", "slipped.bkf", bytes);
    await read(jobId, storeId, "file-record");
    const light = Object.values(await counted(jobId)).reduce((sum, count) => sum + count, 0);
    await read(jobId, storeId, "thorough", { from: 75, to: 100 });
    const part = Object.values(await counted(jobId)).reduce((sum, count) => sum + count, 0);
    await read(jobId, storeId, "thorough");
    const all = Object.values(await counted(jobId)).reduce((sum, count) => sum + count, 0);
    expect(part).toBeGreaterThan(light);
    expect(all).toBe(298);
  }, 120_000);

  it("has no leftover records, and a volume no thorough reading: each is refused in words", async () => {
    const { jobId, storeId } = await jobOf("Refused", "refused.bkf", backupFile("tape-small.bkf"));
    await expect(startPass(bench.db, jobId, storeId, "leftover-record")).rejects.toThrow("no leftover records in a backup file");
  });

  it("and a damaged archive as well: every member that stands is whole by its checksum", async () => {
    const damagedCase = damagedBackups("zip-damaged").find(({ name }) => name === "open-zip-plain-central-cut");
    const { jobId, storeId } = await jobOf("Archive", "archive.zip", damagedCase?.bytes ?? new Uint8Array());
    await read(jobId, storeId, "file-record");
    await read(jobId, storeId, "thorough");
    expect(await counted(jobId)).toEqual({ whole: 39 });
  }, 120_000);
});

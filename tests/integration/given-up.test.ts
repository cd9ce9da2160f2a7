import { sql } from "drizzle-orm";
import { afterAll, beforeAll, expect, it } from "vitest";
import { itemQuery } from "../../server/items/contract";
import { listItems } from "../../server/items/list";
import { changePass, startPass } from "../../server/passes/commands";
import { listPasses } from "../../server/passes/queries";
import { retryRestore, startRestore } from "../../server/restores/commands";
import { changeTray } from "../../server/tray/commands";
import { endGivenUp } from "../../server/workers/given-up";
import { jobWith, searchedJob, startTestBench, type TestBench, until } from "../support/bench";
import { endedRestore, planTo, wholeRestore } from "../support/restores";

let bench: TestBench;
beforeAll(async () => {
  bench = await startTestBench();
});
afterAll(() => bench.close());

/** As after so many deaths of workers: the queue counts each beginning. */
const useUp = (key: string) =>
  bench.db.execute(sql`update graphile_worker._private_jobs set attempts = max_attempts where key = ${key} and locked_at is null`);

it("a restore whose workers were ended too often is failed in words, and written in full when it is tried again", async () => {
  const jobId = await searchedJob(bench, "ntfs-4kn");
  const { items } = await listItems(bench.db, jobId, itemQuery.parse({ limit: 20, condition: "whole" }));
  await changeTray(bench.db, jobId, { items: items.map(({ id }) => id), chosen: true });
  const id = await startRestore(bench.db, jobId, planTo("Given up"));
  // What is only waiting is not given up.
  expect(await endGivenUp(bench.db)).toBe(0);
  await useUp(`restore:${id}`);
  expect(await endGivenUp(bench.db)).toBe(1);
  const failed = await wholeRestore(bench.db, jobId, id);
  expect(failed).toMatchObject({ state: "failed", problem: expect.stringContaining("again and again") });
  expect(failed.results.every(({ state }) => state === "failed")).toBe(true);
  expect(await endGivenUp(bench.db)).toBe(0);
  await retryRestore(bench.db, id);
  const worker = bench.worker();
  expect(await endedRestore(bench.db, jobId, id)).toMatchObject({ state: "done", counts: { verified: items.length } });
  worker.kill("SIGKILL");
}, 120_000);

it("so is a pass, which goes on when it is asked to", async () => {
  const { jobId, source } = await jobWith(bench, "tiny-ntfs");
  const id = await startPass(bench.db, jobId, source.volumes[0]?.id ?? 0);
  await useUp(`pass:${id}`);
  expect(await endGivenUp(bench.db)).toBe(1);
  const stateOf = async () => (await listPasses(bench.db, jobId)).find((pass) => pass.id === id);
  expect(await stateOf()).toMatchObject({ state: "failed", problem: expect.stringContaining("again and again") });
  await changePass(bench.db, id, "run");
  const worker = bench.worker();
  await until(async () => (await stateOf())?.state === "done");
  worker.kill("SIGKILL");
}, 120_000);

it("what was asked for anew while a worker had it, which died then, is no work that was given up", async () => {
  const { jobId, source } = await jobWith(bench, "tiny-ntfs");
  const id = await startPass(bench.db, jobId, source.volumes[0]?.id ?? 0);
  const own = sql`task_id = (select id from graphile_worker._private_tasks where identifier = 'pass') and (payload->>'id')::int = ${id}`;
  await bench.db.execute(sql`update graphile_worker._private_jobs set locked_at = now(), locked_by = 'who dies' where ${own}`);
  await changePass(bench.db, id, "pause");
  await changePass(bench.db, id, "run");
  await bench.db.execute(
    sql`update graphile_worker._private_jobs set locked_at = null, locked_by = null where ${own} and locked_by = 'who dies'`,
  );
  const { rows } = await bench.db.execute(
    sql`select 1 from graphile_worker._private_jobs where ${own} and key is null and attempts >= max_attempts`,
  );
  expect(rows).toHaveLength(1);
  expect(await endGivenUp(bench.db)).toBe(0);
  const worker = bench.worker();
  await until(async () => (await listPasses(bench.db, jobId)).find((pass) => pass.id === id)?.state === "done");
  // The queue lets go of a work a moment after it has ended.
  await until(async () => (await bench.db.execute(sql`select 1 from graphile_worker._private_jobs where ${own}`)).rows.length === 0);
  worker.kill("SIGKILL");
}, 120_000);

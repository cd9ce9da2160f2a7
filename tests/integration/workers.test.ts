import type { ChildProcess } from "node:child_process";
import { existsSync, renameSync } from "node:fs";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { changePass, startPass } from "../../server/passes/commands";
import { listPasses } from "../../server/passes/queries";
import { jobWith, startTestBench, type TestBench, until } from "../support/bench";
import { makeHost, mayMakeHosts, type TestHost } from "../support/hosts";

let bench: TestBench;
const children: ChildProcess[] = [];
const hosts: TestHost[] = [];
beforeAll(async () => {
  bench = await startTestBench();
});
afterAll(async () => {
  for (const child of children) child.kill("SIGKILL");
  for (const host of hosts) host.close();
  await bench.close();
});

const databaseUrl = () => new URL(process.env.COMPASS_DATABASE_URL as string);

/** Another host that reaches the database alone. */
async function newHost(): Promise<TestHost> {
  const host = await makeHost(Number(databaseUrl().port));
  hosts.push(host);
  return host;
}

/** A worker on another host. @param hidden folders that are not there for it */
async function workerOn(host: TestHost, hidden: readonly string[] = [], settings: Record<string, string> = {}) {
  const before = await workerIds();
  const url = databaseUrl();
  url.hostname = host.gateway.address;
  url.port = String(host.gateway.port);
  const child = host.start(
    [process.execPath, "dist/main.js"],
    { ...process.env, COMPASS_LOG: "error", COMPASS_DEAD_AFTER: "3", COMPASS_DATABASE_URL: url.href, ...settings },
    hidden,
  );
  children.push(child);
  return { id: await until(async () => (await workerIds()).find((id) => !before.includes(id))), child };
}

/** A worker that does not see the sources. */
const blindWorker = async (host: TestHost) => (await workerOn(host, [bench.sources])).id;

async function seeingWorker(settings: Record<string, string> = {}): Promise<{ id: string; child: ChildProcess }> {
  const before = await workerIds();
  const child = bench.worker(settings);
  children.push(child);
  return { id: await until(async () => (await workerIds()).find((id) => !before.includes(id))), child };
}

/** Ends all workers, and waits until nobody takes them for alive. */
async function noWorkers(): Promise<void> {
  for (const child of children.splice(0)) child.kill("SIGKILL");
  await bench.pool.query("delete from workers");
}

const workerIds = async () => (await bench.pool.query<{ id: string }>("select id from workers")).rows.map(({ id }) => id);
const passOf = async (id: number) =>
  (
    await bench.pool.query<{ state: string; problem: string | null; worker_id: string; declined: string[]; epoch: number }>(
      "select * from passes where id = $1",
      [id],
    )
  ).rows[0];

describe.runIf(mayMakeHosts())("workers on several hosts with one database, of which one does not see the source", () => {
  it("leave each pass to the one that sees it; what is found is stored once", async () => {
    const { jobId, source } = await jobWith(bench, "ntfs-gpt");
    const volume = source.volumes.find(({ filesystem }) => filesystem === "ntfs")?.id as number;
    const [first, second] = [await newHost(), await newHost()];
    // They are hosts of their own: this one's loopback, where the database listens, is not theirs.
    const { port } = databaseUrl();
    const reaches = (address: string, at: string | number) =>
      first.run([
        process.execPath,
        "-e",
        `require("net").connect(${at}, "${address}").on("connect", () => process.exit(0)).on("error", () => process.exit(1))`,
      ]);
    expect(reaches("127.0.0.1", port)).toBe(false);
    expect(reaches(first.gateway.address, first.gateway.port)).toBe(true);
    const blind = await blindWorker(first);
    const { rows } = await bench.pool.query<{ host: string }>("select host from workers where id = $1", [blind]);
    expect(rows[0]?.host).toBe(first.name);
    const { id: seeing } = await workerOn(second);
    // Often enough that the blind one is asked first some of the time.
    const ids = [await startPass(bench.db, jobId, volume), await startPass(bench.db, jobId, volume, "raw")];
    for (let again = 0; again < 3; again += 1)
      ids.push(await startPass(bench.db, jobId, volume, "raw", { again: true, from: again, to: 100 }));
    await until(async () => (await listPasses(bench.db, jobId)).every(({ state }) => !["queued", "running"].includes(state)), 60);
    for (const id of ids) expect(await passOf(id)).toMatchObject({ state: "done", problem: null, worker_id: seeing });
    // What follows a pass reads the source too: it is left to the one that sees it.
    await until(async () => {
      const { rows: read } = await bench.pool.query("select 1 from stores where id = $1 and reading_at is not null", [volume]);
      return read.length > 0;
    }, 30);
    const { rows: sees } = await bench.pool.query<{ id: string; sees: number[] }>("select id, sees from workers");
    expect(sees.find(({ id }) => id === blind)?.sees).toEqual([]);
    expect(sees.find(({ id }) => id === seeing)?.sees).toEqual([source.id]);
    const twice = await bench.pool.query(
      "select reference from copies where job_id = $1 and place = 'file-record' group by reference, name, folder_id having count(*) > 1",
      [jobId],
    );
    expect(twice.rows).toEqual([]);
  }, 90_000);

  it("go on when the one that reads is killed: another that sees the source takes over, the blind one never", async () => {
    const { jobId, source } = await jobWith(bench, "ntfs-reformatted");
    const volume = source.volumes.find(({ filesystem }) => filesystem === "ntfs")?.id as number;
    await noWorkers();
    const first = await workerOn(await newHost(), [], { COMPASS_BATCH: "16" });
    const blind = await blindWorker(await newHost());
    const id = await startPass(bench.db, jobId, volume, "leftover-record");
    await until(async () => (await passOf(id))?.state === "running" && (await passOf(id))?.worker_id === first.id, 30);
    first.child.kill("SIGKILL");
    const second = await workerOn(await newHost());
    await until(async () => (await passOf(id))?.state === "done", 60);
    const pass = await passOf(id);
    expect(pass?.worker_id).not.toBe(blind);
    expect([first.id, second.id]).toContain(pass?.worker_id);
    const twice = await bench.pool.query(
      "select reference from copies where pass_id = $1 group by reference, name, folder_id, layout having count(*) > 1",
      [id],
    );
    expect(twice.rows).toEqual([]);
  }, 120_000);
});

describe("workers none of which sees the source", () => {
  it("say so with the pass, which goes on when the source is there again", async () => {
    const { jobId, source, path } = await jobWith(bench, "fat12");
    renameSync(path, `${path} away`);
    if (existsSync(path)) throw new Error("the source is still there");
    await noWorkers();
    await seeingWorker();
    await seeingWorker();
    const id = await startPass(bench.db, jobId, source.volumes[0]?.id as number);
    await until(async () => (await passOf(id))?.state === "failed", 30);
    expect((await passOf(id))?.problem).toMatch(/is not there|None of the workers that run now sees this source/);
    renameSync(`${path} away`, path);
    await changePass(bench.db, id, "run");
    await until(async () => (await passOf(id))?.state === "done", 30);
    expect((await passOf(id))?.declined).toEqual([]);
  }, 90_000);
});

import { type ChildProcess, execFileSync, spawn } from "node:child_process";
import { existsSync, renameSync } from "node:fs";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { changePass, startPass } from "../../server/passes/commands";
import { listPasses } from "../../server/passes/queries";
import { jobWith, startTestBench, type TestBench, until } from "../support/bench";

/** Whether a process may be given a view of the file systems of its own here (unshare(1), util-linux): as root only. */
function mayHide(): boolean {
  try {
    execFileSync("unshare", ["--mount", "--uts", "true"], { stdio: "ignore" });
    return true;
  } catch {
    return false;
  }
}

let bench: TestBench;
const children: ChildProcess[] = [];
beforeAll(async () => {
  bench = await startTestBench();
});
afterAll(async () => {
  for (const child of children) child.kill("SIGKILL");
  await bench.close();
});

/** A worker on what is another host to it: by its name, and without the folder of the sources. */
async function blindWorker(): Promise<string> {
  const before = await workerIds();
  const script = `hostname elsewhere && mount -t tmpfs none "${bench.sources}" && exec "${process.execPath}" dist/main.js`;
  const child = spawn("unshare", ["--mount", "--uts", "sh", "-c", script], {
    stdio: ["ignore", "ignore", "inherit"],
    env: { ...process.env, COMPASS_LOG: "error", COMPASS_DEAD_AFTER: "3" },
  });
  children.push(child);
  return until(async () => (await workerIds()).find((id) => !before.includes(id)));
}

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

describe.runIf(mayHide())("two workers with one database, of which one does not see the source", () => {
  it("leave each pass to the one that sees it; what is found is stored once", async () => {
    const { jobId, source } = await jobWith(bench, "ntfs-gpt");
    const volume = source.volumes.find(({ filesystem }) => filesystem === "ntfs")?.id as number;
    const blind = await blindWorker();
    const { rows } = await bench.pool.query<{ host: string }>("select host from workers where id = $1", [blind]);
    expect(rows[0]?.host).toBe("elsewhere");
    const { id: seeing } = await seeingWorker();
    // Often enough that the blind one is asked first some of the time.
    const ids = [await startPass(bench.db, jobId, volume), await startPass(bench.db, jobId, volume, "raw")];
    for (let again = 0; again < 3; again += 1)
      ids.push(await startPass(bench.db, jobId, volume, "raw", { again: true, from: again, to: 100 }));
    await until(async () => (await listPasses(bench.db, jobId)).every(({ state }) => !["queued", "running"].includes(state)), 60);
    for (const id of ids) expect(await passOf(id)).toMatchObject({ state: "done", problem: null, worker_id: seeing });
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
    const first = await seeingWorker({ COMPASS_BATCH: "16" });
    const blind = await blindWorker();
    const id = await startPass(bench.db, jobId, volume, "leftover-record");
    await until(async () => (await passOf(id))?.state === "running" && (await passOf(id))?.worker_id === first.id, 30);
    first.child.kill("SIGKILL");
    const second = await seeingWorker();
    await until(async () => (await passOf(id))?.state === "done", 60);
    const pass = await passOf(id);
    expect(pass?.worker_id).not.toBe(blind);
    expect([first.id, second.id]).toContain(pass?.worker_id);
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

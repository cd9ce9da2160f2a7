import { type ChildProcess, spawn } from "node:child_process";
import { mkdirSync, mkdtempSync, writeFileSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { type Database, open } from "../../server/database/connection";
import { type Item, itemQuery } from "../../server/items/contract";
import { listItems } from "../../server/items/list";
import { createJob } from "../../server/jobs/commands";
import { startPass } from "../../server/passes/commands";
import { listPasses } from "../../server/passes/queries";
import { addSource } from "../../server/sources/commands";
import type { Source } from "../../server/sources/contract";
import { listSources } from "../../server/sources/queries";
import { scratchDatabase } from "./scratch-database";
import { fixture } from "./volume-truth";

/** A bench of its own for one test file: database, source and delivery folders, and workers to start and kill. */
export interface TestBench {
  readonly db: Database;
  readonly pool: ReturnType<typeof open>["pool"];
  readonly sources: string;
  readonly delivery: string;
  /** Starts the built worker with these settings beside the usual ones. */
  worker(settings?: Record<string, string>): ChildProcess;
  close(): Promise<void>;
}

export async function startTestBench(): Promise<TestBench> {
  const url = await scratchDatabase();
  const work = mkdtempSync(join(tmpdir(), "compass-bench-"));
  const sources = join(work, "sources");
  const delivery = join(work, "delivery");
  for (const folder of [sources, delivery]) mkdirSync(folder);
  Object.assign(process.env, {
    COMPASS_DATABASE_URL: url,
    COMPASS_SOURCES: sources,
    COMPASS_DELIVERY: delivery,
    COMPASS_DATA: work,
    COMPASS_SOURCE_ROOTS: join(work, "mounted"),
  });
  const { db, pool } = open(url);
  const workers: ChildProcess[] = [];
  return {
    db,
    pool,
    sources,
    delivery,
    worker: (settings = {}) => {
      const child = spawn(process.execPath, ["dist/main.js"], {
        stdio: ["ignore", "ignore", "inherit"],
        env: { ...process.env, COMPASS_LOG: process.env.COMPASS_LOG ?? "error", COMPASS_DEAD_AFTER: "3", ...settings },
      });
      workers.push(child);
      return child;
    },
    close: async () => {
      for (const child of workers) child.kill("SIGKILL");
      await pool.end();
    },
  };
}

/** A job with one fixture's image as its source. */
export async function jobWith(bench: TestBench, image: string): Promise<{ jobId: number; source: Source; path: string }> {
  const path = join(bench.sources, `${image}.img`);
  writeFileSync(path, fixture(`${image}.img.gz`));
  const jobId = await createJob(bench.db, { title: `Test of ${image}`, client: "" });
  await addSource(bench.db, jobId, path);
  const [source] = await listSources(bench.db, jobId);
  if (!source) throw new Error("the source was not added");
  return { jobId, source, path };
}

/** A job whose NTFS volume has been read to its end; the worker that read it is gone. @returns the job's id */
export async function searchedJob(bench: TestBench, image: string): Promise<number> {
  const { jobId, source } = await jobWith(bench, image);
  const volume = source.volumes.find((each) => each.filesystem === "ntfs");
  await startPass(bench.db, jobId, volume?.id as number);
  const worker = bench.worker();
  await until(async () => (await listPasses(bench.db, jobId)).every((pass) => pass.state === "done"));
  worker.kill("SIGKILL");
  return jobId;
}

/** A job with a folder as its source, whose files have been read. */
export async function readFolder(bench: TestBench, folder: string, title: string): Promise<{ jobId: number; items: readonly Item[] }> {
  const jobId = await createJob(bench.db, { title, client: "" });
  await addSource(bench.db, jobId, folder);
  const [source] = await listSources(bench.db, jobId);
  await startPass(bench.db, jobId, source?.volumes[0]?.id as number);
  const worker = bench.worker();
  await until(async () => (await listPasses(bench.db, jobId)).every((pass) => pass.state === "done"));
  worker.kill("SIGKILL");
  const { items } = await listItems(bench.db, jobId, itemQuery.parse({ show: "all", limit: 100 }));
  return { jobId, items };
}

/** Asks again and again until `ask` gives something. On a busy computer that may take long: the time is for what never happens. */
export async function until<T>(ask: () => Promise<T | null | undefined | false>, seconds = 80): Promise<T> {
  const end = Date.now() + seconds * 1000;
  while (Date.now() < end) {
    const found = await ask();
    if (found) return found;
    await new Promise((done) => setTimeout(done, 25));
  }
  throw new Error(`still waiting after ${seconds} s`);
}

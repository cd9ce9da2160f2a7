import { mkdirSync, readdirSync, writeFileSync } from "node:fs";
import { dirname, join } from "node:path";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { itemQuery } from "../../server/items/contract";
import { listItems } from "../../server/items/list";
import { createJob } from "../../server/jobs/commands";
import { startPass } from "../../server/passes/commands";
import { listPasses } from "../../server/passes/queries";
import { startRestore } from "../../server/restores/commands";
import { addSource } from "../../server/sources/commands";
import { listSources } from "../../server/sources/queries";
import { changeTray } from "../../server/tray/commands";
import { startTestBench, type TestBench, until } from "../support/bench";
import { endedRestore, planTo } from "../support/restores";

let bench: TestBench;
beforeAll(async () => {
  bench = await startTestBench();
});
afterAll(() => bench.close());

describe("files whose paths differ in capitals or Unicode form alone", () => {
  // One batch holds all of them, or each stands in one of its own.
  it.each(["1", "1000"])("are items of their own, and each is restored (batches of %s)", async (batch) => {
    const folder = join(bench.sources, `twins ${batch}`);
    const names = [
      "Letter.txt",
      "letter.txt",
      "LETTER.TXT",
      "Größe.txt".normalize("NFC"),
      "Größe.txt".normalize("NFD"),
      "Box/a.txt",
      "BOX/a.txt",
      "alone.txt",
    ];
    for (const name of names) {
      mkdirSync(dirname(join(folder, name)), { recursive: true });
      writeFileSync(join(folder, name), name);
    }
    // On a file system that does not tell them apart there are fewer: then they are one file, and one item.
    const there = readdirSync(folder, { recursive: true, withFileTypes: true }).filter((entry) => entry.isFile()).length;
    const jobId = await createJob(bench.db, { title: "Twins", client: "" });
    await addSource(bench.db, jobId, folder);
    const [source] = await listSources(bench.db, jobId);
    await startPass(bench.db, jobId, source?.volumes[0]?.id as number);
    const worker = bench.worker({ COMPASS_BATCH: batch });
    await until(async () => (await listPasses(bench.db, jobId)).every(({ state }) => state === "done"));
    const { items } = await listItems(bench.db, jobId, itemQuery.parse({ show: "all", limit: 100 }));
    const files = items.filter(({ name }) => name.endsWith(".txt") || name.endsWith(".TXT"));
    expect(files).toHaveLength(there);
    await changeTray(bench.db, jobId, { items: files.map(({ id }) => id), chosen: true });
    const restore = await endedRestore(bench.db, jobId, await startRestore(bench.db, jobId, planTo(`Twins ${batch}`)));
    expect(restore.counts.verified).toBe(there);
    expect(new Set(restore.results.map(({ output }) => output)).size).toBe(there);
    expect(new Set(restore.results.map(({ sha256 }) => sha256)).size).toBe(there);
    worker.kill("SIGKILL");
  });
});

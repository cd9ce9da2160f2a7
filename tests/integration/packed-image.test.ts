import { createHash } from "node:crypto";
import { mkdirSync, readFileSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import { gzipSync } from "node:zlib";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { runTask } from "../../server/content/pool";
import { itemQuery } from "../../server/items/contract";
import { listItems } from "../../server/items/list";
import { startPass } from "../../server/passes/commands";
import { listPasses } from "../../server/passes/queries";
import { startRestore } from "../../server/restores/commands";
import { addInnerSource } from "../../server/sources/commands";
import { listSources } from "../../server/sources/queries";
import { changeTray } from "../../server/tray/commands";
import { readFolder, startTestBench, type TestBench, until } from "../support/bench";
import { endedRestore, planTo } from "../support/restores";
import { fixture, pathOf, readTruth } from "../support/volume-truth";

let bench: TestBench;
beforeAll(async () => {
  bench = await startTestBench();
});
afterAll(() => bench.close());

describe("the image of a card that somebody compressed", () => {
  it("is opened where it lies, and its files are restored as the driver had them", async () => {
    const folder = join(bench.sources, "kept");
    mkdirSync(folder);
    writeFileSync(join(folder, "card.img.gz"), gzipSync(fixture("fat16.img.gz")));
    const { jobId, items } = await readFolder(bench, folder, "A card");
    const copyId = items.find(({ name }) => name === "card.img.gz")?.bestCopyId as number;
    expect(await runTask("form", [copyId])).toMatchObject({ disk: true });
    const inner = await addInnerSource(bench.db, jobId, copyId);
    const source = (await listSources(bench.db, jobId)).find(({ id }) => id === inner);
    expect(source?.volumes.map(({ filesystem }) => filesystem)).toEqual(["fat16"]);
    await startPass(bench.db, jobId, source?.volumes[0]?.id as number);
    const worker = bench.worker();
    await until(async () => (await listPasses(bench.db, jobId)).every(({ state }) => state === "done"));
    const query = itemQuery.parse({ show: "all", source: inner, condition: "in-place", limit: 500 });
    const live = (await listItems(bench.db, jobId, query)).items.filter(({ size }) => size > 0);
    await changeTray(bench.db, jobId, { items: live.map(({ id }) => id), chosen: true });
    const restored = await endedRestore(bench.db, jobId, await startRestore(bench.db, jobId, planTo("Out of the card")));
    worker.kill("SIGKILL");
    const truth = new Map(readTruth("fat16").entries.flatMap((entry) => (entry.state === "live" ? [[pathOf(entry), entry.sha256]] : [])));
    const known = restored.results.filter(({ path }) => truth.has(path.normalize("NFC")));
    expect(known.length).toBeGreaterThan(20);
    for (const { path, output } of known)
      expect(
        createHash("sha256")
          .update(readFileSync(output as string))
          .digest("hex"),
        path,
      ).toBe(truth.get(path.normalize("NFC")));
  });

  it("a file that was compressed by itself is opened, listed and restored in the same way; a damaged one is not called whole", async () => {
    const folder = join(bench.sources, "letters");
    mkdirSync(folder);
    const letter = Buffer.from(Array.from({ length: 9000 }, (_, index) => `Line ${index} of ${(index * 7919) % 10_007}\n`).join(""));
    const packed = gzipSync(letter);
    writeFileSync(join(folder, "letter.txt.gz"), packed);
    writeFileSync(join(folder, "damaged.txt.gz"), Buffer.concat([packed.subarray(0, 9000), Buffer.alloc(40), packed.subarray(9040)]));
    const { jobId, items } = await readFolder(bench, folder, "Letters");
    const opened = async (name: string) => {
      const copyId = items.find((item) => item.name === name)?.bestCopyId as number;
      expect(await runTask("form", [copyId])).toMatchObject({ disk: true });
      const inner = await addInnerSource(bench.db, jobId, copyId);
      const volumes = (await listSources(bench.db, jobId)).find(({ id }) => id === inner)?.volumes ?? [];
      expect(volumes.map(({ filesystem }) => filesystem)).toEqual(["packed"]);
      await startPass(bench.db, jobId, volumes[0]?.id as number);
      const worker = bench.worker();
      await until(async () => (await listPasses(bench.db, jobId)).every(({ state }) => state === "done"));
      worker.kill("SIGKILL");
      return (await listItems(bench.db, jobId, itemQuery.parse({ show: "all", source: inner }))).items;
    };
    const damaged = await opened("damaged.txt.gz");
    expect(damaged.map(({ name }) => name)).toContain("damaged.txt");
    expect(damaged.some(({ condition }) => condition === "whole")).toBe(false);
    const sound = await opened("letter.txt.gz");
    expect(sound.map(({ name, size, condition }) => [name, size, condition])).toEqual([["letter.txt", letter.length, "whole"]]);
    await changeTray(bench.db, jobId, { items: sound.map(({ id }) => id), chosen: true });
    const worker = bench.worker();
    const { results } = await endedRestore(bench.db, jobId, await startRestore(bench.db, jobId, planTo("The letter")));
    worker.kill("SIGKILL");
    expect(readFileSync(results[0]?.output as string)).toEqual(letter);
  });
});

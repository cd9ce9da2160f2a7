import { createHash } from "node:crypto";
import { mkdirSync, readFileSync, statSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { planSweep } from "../../core/sweep/plan-sweep";
import { rawCopy } from "../../core/sweep/raw-copy";
import { sweep } from "../../core/sweep/sweep";
import { itemQuery } from "../../server/items/contract";
import { listItems } from "../../server/items/list";
import { findItem } from "../../server/items/queries";
import { createJob } from "../../server/jobs/commands";
import { changePass, startPass } from "../../server/passes/commands";
import { listPasses } from "../../server/passes/queries";
import { findPlan } from "../../server/plan/queries";
import { lookAtRepair, repairedPicture, writeRepaired } from "../../server/repairs/repairs";
import { addSource } from "../../server/sources/commands";
import { listSources } from "../../server/sources/queries";
import { jobWith, startTestBench, type TestBench, until } from "../support/bench";
import { carveImage } from "../support/lab-files";
import { fixture, readTruth } from "../support/volume-truth";

let bench: TestBench;
beforeAll(async () => {
  bench = await startTestBench();
});
afterAll(() => bench.close());

const query = (change: object) => itemQuery.parse({ limit: 1000, ...change });
const done = (jobId: number) => until(async () => (await listPasses(bench.db, jobId)).every((pass) => pass.state === "done"), 60);

interface Row {
  reference: string;
  name: string;
  size: string;
  condition: string;
  facts: { inside?: string; taken?: number };
}
const rowsOf = async (passId: number) =>
  (
    await bench.pool.query<Row>("select reference, name, size, condition, facts from copies where pass_id = $1 order by reference", [
      passId,
    ])
  ).rows;

describe("raw content as a pass", () => {
  it("finds the same on several threads, with workers killed on the way, as on one", async () => {
    const { jobId, source } = await jobWith(bench, "carve");
    const storeId = source.volumes[0]?.id as number;
    const id = await startPass(bench.db, jobId, storeId, "raw", { everyByte: true });
    for (let kill = 0; kill < 2; kill += 1) {
      const worker = bench.worker({ COMPASS_SWEEP_THREADS: "2", COMPASS_BATCH: "5" });
      await until(async () => ((await listPasses(bench.db, jobId))[0]?.done ?? 0) > kill * 20_000_000, 40);
      worker.kill("SIGKILL");
    }
    // What it has come upon shows before it is stored: it may still turn out to be a part of something else.
    expect((await listPasses(bench.db, jobId))[0]?.sighted).toMatchObject({ count: expect.any(Number), newest: expect.any(Array) });
    const worker = bench.worker({ COMPASS_SWEEP_THREADS: "3" });
    await done(jobId);
    expect((await listPasses(bench.db, jobId))[0]?.sighted).toBeNull();
    // Three workers, each once at most: work that takes longer than a sign of life may stay out is not taken for a dead worker's.
    const { rows } = await bench.pool.query<{ epoch: number }>("select epoch from passes where id = $1", [id]);
    expect(rows[0]?.epoch).toBeLessThanOrEqual(3);
    worker.kill("SIGKILL");
    const { source: disk } = carveImage();
    const plan = planSweep({ range: { start: 0, end: disk.size }, unusedOnly: false, skip: [], everyByte: true, formats: null }, null);
    const expected = [...sweep(disk, plan)].flatMap(({ finds }) => finds.map((find) => rawCopy(find, 0, false)));
    const line = (reference: string, size: number | string, condition: string, name: string) => `${reference} ${size} ${condition} ${name}`;
    expect((await rowsOf(id)).map((row) => line(row.reference, row.size, row.condition, row.name)).sort()).toEqual(
      expected.map((copy) => line(copy.reference, copy.size, copy.condition, copy.name)).sort(),
    );
    const all = await listItems(bench.db, jobId, query({ place: "raw" }));
    const originals = await listItems(bench.db, jobId, query({ place: "raw", originals: "yes" }));
    expect(originals.items.length).toBeLessThan(all.items.length);
    expect(originals.items.every((item) => item.facts?.inside === undefined)).toBe(true);
    expect(all.items.find((item) => item.name.startsWith("2020-07-15"))?.facts).toMatchObject({ width: 560, camera: "Lumora LX-7 Field" });
  }, 180_000);

  it("that is stopped keeps what it had in hand", async () => {
    const { jobId, source } = await jobWith(bench, "carve");
    const id = await startPass(bench.db, jobId, source.volumes[0]?.id as number, "raw", { everyByte: true });
    const worker = bench.worker({ COMPASS_SWEEP_THREADS: "1", COMPASS_BATCH: "5" });
    const inHand = await until(async () => (await listPasses(bench.db, jobId))[0]?.sighted?.count, 40);
    expect((await rowsOf(id)).length).toBe(0);
    await changePass(bench.db, id, "stop");
    const stopped = await until(async () => {
      const [pass] = await listPasses(bench.db, jobId);
      return pass?.state === "stopped" && pass;
    }, 40);
    worker.kill("SIGKILL");
    expect(stopped).toMatchObject({ sighted: null, finishedAt: expect.any(Date) });
    expect(stopped.done).toBeLessThan(stopped.total);
    const rows = await rowsOf(id);
    expect(rows.length).toBeGreaterThanOrEqual(inHand * 0.9);
    expect(stopped.foundLost).toBe(rows.length);
    expect(new Set(rows.map((row) => row.reference)).size).toBe(rows.length);
    // Another sweep goes on behind it, and finds nothing twice.
    const again = await startPass(bench.db, jobId, source.volumes[0]?.id as number, "raw", { everyByte: true });
    bench.worker();
    await until(async () => (await listPasses(bench.db, jobId)).find((pass) => pass.id === again)?.state === "done", 60);
    const later = await rowsOf(again);
    const known = new Set(rows.map((row) => row.reference));
    expect(later.filter((row) => known.has(row.reference))).toEqual([]);
    // The two together have what one sweep has, but for what reaches over the place where it was stopped.
    const { source: disk } = carveImage();
    const plan = planSweep({ range: { start: 0, end: disk.size }, unusedOnly: false, skip: [], everyByte: true, formats: null }, null);
    const whole = [...sweep(disk, plan)].flatMap(({ finds }) => finds.map((find) => rawCopy(find, 0, false).reference));
    const both = new Set([...known, ...later.map((row) => row.reference)]);
    expect(whole.filter((reference) => both.has(reference)).length / whole.length).toBeGreaterThan(0.9);
  }, 120_000);

  it("that is stopped while it is paused goes through what it had in hand once more, and keeps it", async () => {
    const { jobId, source } = await jobWith(bench, "carve");
    const id = await startPass(bench.db, jobId, source.volumes[0]?.id as number, "raw", { everyByte: true });
    const worker = bench.worker({ COMPASS_SWEEP_THREADS: "1", COMPASS_BATCH: "5" });
    const pass = async () => (await listPasses(bench.db, jobId))[0];
    await until(async () => (await pass())?.sighted?.count, 40);
    await changePass(bench.db, id, "pause");
    const paused = await until(async () => (await pass())?.state === "paused" && (await pass()), 40);
    const [inHand, before] = [paused.sighted?.count ?? 0, (await rowsOf(id)).length];
    expect(inHand).toBeGreaterThan(0);
    await changePass(bench.db, id, "stop");
    const stopped = await until(async () => (await pass())?.state === "stopped" && (await pass()), 40);
    worker.kill("SIGKILL");
    expect(stopped).toMatchObject({ sighted: null, finishedAt: expect.any(Date), done: paused.done });
    const rows = await rowsOf(id);
    expect(rows.length).toBeGreaterThanOrEqual(before + inHand * 0.9);
    expect(new Set(rows.map((row) => row.reference)).size).toBe(rows.length);
  }, 120_000);

  it("gives a formatted card its pictures back; the names of records win where they own the same clusters", async () => {
    const { jobId, source } = await jobWith(bench, "camera-formatted");
    const volume = source.volumes.find((each) => each.filesystem === "fat32");
    const worker = bench.worker();
    const raw = await startPass(bench.db, jobId, volume?.id as number, "raw", { unused: true });
    await done(jobId);
    const truth = readTruth("camera-formatted").entries.filter(
      ({ state, path }) => state === "lost-format-intact" && /\.jpe?g$/i.test(path),
    );
    const rows = await rowsOf(raw);
    expect(truth.length).toBeGreaterThan(5);
    const sizes = new Set(rows.filter((row) => row.condition === "whole").map((row) => Number(row.size)));
    const found = truth.filter(({ size }) => sizes.has(size ?? 0));
    expect(found.length / truth.length).toBeGreaterThan(0.9);
    // The leftover records give names; a second sweep is tied to them.
    await startPass(bench.db, jobId, volume?.id as number, "leftover-record");
    await done(jobId);
    await startPass(bench.db, jobId, volume?.id as number, "raw", { unused: true, again: true });
    await done(jobId);
    worker.kill("SIGKILL");
    const { items } = await listItems(bench.db, jobId, query({ kind: "pictures" }));
    const tied = items.filter((item) => truth.some(({ path }) => path.endsWith(`/${item.name}`)));
    expect(tied.length).toBeGreaterThan(3);
    for (const item of tied) {
      const detail = await findItem(bench.db, item.id);
      // The record's own copy stays the one, with its dates; what was found of it by content confirms it or stands beside it.
      const [best] = detail?.list ?? [];
      expect(best?.place).toBe("leftover-record");
      expect(detail?.list.some((copy) => copy.place === "raw" || copy.notes.some((note) => note.includes("confirms")))).toBe(true);
      expect(item.modified).toEqual(best?.modified);
    }
    const plan = await findPlan(bench.db, jobId);
    const step = plan.steps.find((each) => each.kind === "raw");
    expect(step).toMatchObject({ runs: true, state: "done" });
  }, 120_000);

  it("does not sweep again what was swept in the same way, unless asked", async () => {
    const { jobId, source } = await jobWith(bench, "exfat");
    const volume = source.volumes.find((each) => each.filesystem === "exfat");
    const id = volume?.id as number;
    const worker = bench.worker();
    const first = await startPass(bench.db, jobId, id, "raw", { from: 0, to: 50 });
    await done(jobId);
    const second = await startPass(bench.db, jobId, id, "raw", {});
    const closer = await startPass(bench.db, jobId, id, "raw", { everyByte: true });
    await done(jobId);
    const again = await startPass(bench.db, jobId, id, "raw", { again: true });
    await done(jobId);
    worker.kill("SIGKILL");
    const totals = new Map((await listPasses(bench.db, jobId)).map((pass) => [pass.id, pass.total]));
    const length = volume?.length as number;
    expect(totals.get(first)).toBeCloseTo(length / 2, -4);
    expect(totals.get(second)).toBeCloseTo(length / 2, -4);
    // Looking at every byte is more than was done before; so is doing it again.
    expect(totals.get(closer)).toBeCloseTo(length, -4);
    expect(totals.get(again)).toBeCloseTo(length, -4);
    await expect(startPass(bench.db, jobId, id, "raw", {})).rejects.toThrow(/raw content of this volume/);
    await expect(changePass(bench.db, first, "pause")).rejects.toThrow(/finished/);
  }, 60_000);
});

describe("repair on the bench", () => {
  it("shows what it would come to, and writes a file of its own beside what was restored", async () => {
    const { rows } = await bench.pool.query<{ id: string; name: string; job_id: number; path: string }>(
      `select c.id, c.name, c.job_id, s.path from copies c join stores v on v.id = c.store_id join sources s on s.id = v.source_id
       where c.place = 'raw' and c.condition = 'partial' and c.name like '%.jpg' limit 1`,
    );
    const [copy] = rows;
    expect(copy).toBeDefined();
    const before = createHash("sha256")
      .update(readFileSync(copy?.path ?? ""))
      .digest("hex");
    const look = await lookAtRepair(bench.db, Number(copy?.id));
    expect(look.before).not.toBeNull();
    expect(look.after).toMatchObject({ problem: null, picture: true });
    expect((await repairedPicture(bench.db, Number(copy?.id))).subarray(8, 12).toString()).toBe("WEBP");
    const written = await writeRepaired(bench.db, Number(copy?.id));
    expect(written.output.startsWith(bench.delivery)).toBe(true);
    expect(written.output).toMatch(/ \(repaired\)\.jpg$/);
    expect(createHash("sha256").update(readFileSync(written.output)).digest("hex")).toBe(written.sha256);
    expect(statSync(written.output).size).toBe(written.size);
    // The source is as it was.
    expect(
      createHash("sha256")
        .update(readFileSync(copy?.path ?? ""))
        .digest("hex"),
    ).toBe(before);
    const { rows: notes } = await bench.pool.query<{ what: string }>("select what from log_entries where job_id = $1", [copy?.job_id]);
    expect(notes.map(({ what }) => what)).toContain("Repaired file written");
  });

  it("takes another recording of the same folder for the model of one without its index", async () => {
    const { films } = JSON.parse(fixture("films.json.gz").toString()) as { films: { sibling: string; film: string }[] };
    const [first, , other] = films.map(({ film, sibling }) => ({
      film: Buffer.from(film, "base64"),
      sibling: Buffer.from(sibling, "base64"),
    }));
    if (!first || !other) throw new Error("no films");
    const folder = join(bench.sources, "recordings");
    mkdirSync(folder);
    writeFileSync(join(folder, "MOV_0001.mp4"), first.sibling);
    // Another recorder's, which codes otherwise, is of no use.
    writeFileSync(join(folder, "clip.mp4"), other.sibling);
    writeFileSync(join(folder, "MOV_0002.mp4"), first.film.subarray(0, first.film.lastIndexOf("moov") - 4));
    const jobId = await createJob(bench.db, { title: "Recordings", client: "" });
    await addSource(bench.db, jobId, folder);
    const [source] = await listSources(bench.db, jobId);
    await startPass(bench.db, jobId, source?.volumes[0]?.id as number);
    const worker = bench.worker();
    await done(jobId);
    worker.kill("SIGKILL");
    const { items } = await listItems(bench.db, jobId, query({ show: "all" }));
    const broken = items.find(({ name }) => name === "MOV_0002.mp4");
    const look = await lookAtRepair(bench.db, broken?.bestCopyId ?? 0);
    expect(look.after).toMatchObject({ problem: null, like: "MOV_0001.mp4", picture: false });
    expect(look.after?.done.join(" ")).toMatch(/An index of 50 pictures was made/);
    const written = await writeRepaired(bench.db, broken?.bestCopyId ?? 0);
    expect(written.output).toMatch(/MOV_0002 \(repaired\)\.mp4$/);
  });

  it("says when nothing can be repaired", async () => {
    const { rows } = await bench.pool.query<{ id: string }>(
      "select id from copies where place = 'raw' and condition = 'whole' and size > 1000 limit 1",
    );
    expect(await lookAtRepair(bench.db, Number(rows[0]?.id))).toMatchObject({ before: null, after: null });
    await expect(writeRepaired(bench.db, Number(rows[0]?.id))).rejects.toThrow(/cannot be repaired/);
  });
});

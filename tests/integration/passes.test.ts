import { createHash } from "node:crypto";
import { readdirSync, readFileSync, readlinkSync, statSync } from "node:fs";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { decodeLayout } from "../../core/bytes/layout-code";
import type { Copy } from "../../core/copies/copy";
import { leftoversPass } from "../../core/copies/file-records-pass";
import { inspectDisk, openVolume } from "../../core/volumes/inspect";
import { changePass, startPass } from "../../server/passes/commands";
import { isItem } from "../../server/passes/copy-rows";
import { listPasses } from "../../server/passes/queries";
import { jobWith, startTestBench, type TestBench, until } from "../support/bench";
import { contentHash, copiesAt, imageSource, readTruth } from "../support/volume-truth";

let bench: TestBench;
beforeAll(async () => {
  bench = await startTestBench();
});
afterAll(() => bench.close());

interface StoredRow {
  reference: string;
  path: string;
  size: string;
  condition: string;
  layout: Buffer | null;
}

const stored = async (passId: number) =>
  (
    await bench.pool.query<StoredRow>(
      "select c.reference, f.path || '/' || c.name as path, c.size, c.condition, c.layout from copies c join folders f on f.id = c.folder_id where c.pass_id = $1",
      [passId],
    )
  ).rows;
const key = (copy: { reference: string; path: string; size: string | number; condition: string }) =>
  `${copy.reference} ${copy.path} ${copy.size} ${copy.condition}`;
const passOf = async (jobId: number, id: number) => (await listPasses(bench.db, jobId)).find((pass) => pass.id === id);
const bigVolume = <V extends { filesystem: string; length: number }>(volumes: readonly V[]) =>
  volumes.find((volume) => volume.filesystem === "ntfs") as V;

/** The modes in which a process holds a file open, from the system's own account of it (proc(5), fdinfo: flags in octal). */
function openModes(pid: number, path: string): number[] {
  return readdirSync(`/proc/${pid}/fd`).flatMap((fd) => {
    try {
      if (readlinkSync(`/proc/${pid}/fd/${fd}`) !== path) return [];
      const flags = /^flags:\s+([0-7]+)$/m.exec(readFileSync(`/proc/${pid}/fdinfo/${fd}`, "utf8"));
      return flags ? [Number.parseInt(flags[1] as string, 8) & 3] : [];
    } catch {
      return [];
    }
  });
}

describe("a pass over file records", () => {
  let expected: Copy[];

  it("stores every copy once, though its worker is killed again and again; the source is only ever open for reading", async () => {
    const { jobId, source, path } = await jobWith(bench, "ntfs-gpt");
    const before = { hash: createHash("sha256").update(readFileSync(path)).digest("hex"), time: statSync(path).mtimeMs };
    const volume = bigVolume(source.volumes);
    expected = copiesAt(imageSource("ntfs-gpt"), volume.offset);
    const id = await startPass(bench.db, jobId, volume.id);
    const modes = new Set<number>();
    const settings = { COMPASS_BATCH: "8" };
    for (let kill = 1; kill <= 3; kill += 1) {
      const worker = bench.worker(settings);
      const doneBefore = (await passOf(jobId, id))?.done ?? 0;
      await until(async () => {
        for (const mode of openModes(worker.pid as number, path)) modes.add(mode);
        return ((await passOf(jobId, id))?.done ?? 0) > doneBefore;
      });
      worker.kill("SIGKILL");
      const state = (await passOf(jobId, id))?.state;
      // The test would prove nothing if the pass had been over before the kill.
      expect(state).toBe("running");
    }
    const last = bench.worker({ COMPASS_BATCH: "2000" });
    const done = await until(async () => {
      for (const mode of openModes(last.pid as number, path)) modes.add(mode);
      const pass = await passOf(jobId, id);
      return pass?.state === "done" && pass;
    });
    last.kill("SIGTERM");
    const rows = await stored(id);
    expect(rows.map(key).sort()).toEqual(expected.map(key).sort());
    expect(done.foundLost).toBe(expected.filter((copy) => copy.state === "deleted" && isItem(copy)).length);
    expect([...modes]).toEqual([0]);
    expect(createHash("sha256").update(readFileSync(path)).digest("hex")).toBe(before.hash);
    expect(statSync(path).mtimeMs).toBe(before.time);
    // The stored layouts still lead to the content.
    const disk = imageSource("ntfs-gpt");
    const byKey = new Map(expected.map((copy) => [key(copy), copy]));
    for (const row of rows.filter((_, index) => index % 50 === 0 && rows[index]?.layout)) {
      const copy = byKey.get(key(row)) as Copy;
      expect(contentHash({ ...copy, layout: decodeLayout(row.layout as Buffer) }, disk)).toBe(contentHash(copy, disk));
    }
  }, 180_000);

  it("can be paused, continued and stopped, and keeps what it found", async () => {
    const { jobId, source } = await jobWith(bench, "ntfs-mbr");
    const volume = bigVolume(source.volumes);
    const id = await startPass(bench.db, jobId, volume.id);
    await expect(startPass(bench.db, jobId, volume.id)).rejects.toThrow("already");
    const worker = bench.worker({ COMPASS_BATCH: "8" });
    await until(async () => ((await passOf(jobId, id))?.done ?? 0) > 0);
    await changePass(bench.db, id, "pause");
    const paused = await until(async () => {
      const pass = await passOf(jobId, id);
      return pass?.state === "paused" && pass;
    });
    await new Promise((done) => setTimeout(done, 400));
    expect((await passOf(jobId, id))?.done).toBe(paused.done);
    expect(paused.done).toBeLessThan(paused.total);
    expect((await stored(id)).length).toBeGreaterThan(0);
    await changePass(bench.db, id, "run");
    await until(async () => ((await passOf(jobId, id))?.done ?? 0) > paused.done);
    await changePass(bench.db, id, "stop");
    const stopped = await until(async () => {
      const pass = await passOf(jobId, id);
      return pass?.state === "stopped" && pass;
    });
    worker.kill("SIGTERM");
    expect(stopped.done).toBeLessThan(stopped.total);
    expect((await stored(id)).length).toBeGreaterThan(0);
    await expect(changePass(bench.db, id, "run")).rejects.toThrow("stopped");
  }, 120_000);
});

describe("a pass over what is left over", () => {
  it("goes on after its worker is killed with what it noted, and stores every copy once", async () => {
    const truth = readTruth("ntfs-reformatted");
    const disk = imageSource("ntfs-reformatted");
    const report = inspectDisk(disk).volumes.find((each) => each.offset === truth.volume.partitionOffset);
    if (!report) throw new Error("no volume");
    const wanted = [...leftoversPass(openVolume(disk, report), disk)].flatMap((batch) => batch.copies);
    const { jobId, source } = await jobWith(bench, "ntfs-reformatted");
    const volume = source.volumes.find((each) => each.offset === truth.volume.partitionOffset);
    const id = await startPass(bench.db, jobId, volume?.id as number, "leftover-record");
    const notes = async () => {
      const { rows } = await bench.pool.query<{ bytes: string }>(
        "select coalesce(sum(length(noted)), 0) as bytes from pass_notes where pass_id = $1",
        [id],
      );
      return Number(rows[0]?.bytes);
    };
    const kept: number[] = [];
    for (let kill = 1; kill <= 3; kill += 1) {
      const worker = bench.worker({ COMPASS_BATCH: "8" });
      const before = (await passOf(jobId, id))?.done ?? 0;
      await until(async () => ((await passOf(jobId, id))?.done ?? 0) > before);
      worker.kill("SIGKILL");
      expect((await passOf(jobId, id))?.state).toBe("running");
      kept.push(await notes());
    }
    expect(kept[2]).toBeGreaterThan(0);
    expect(kept).toEqual([...kept].sort((a, b) => a - b));
    bench.worker();
    await until(async () => (await passOf(jobId, id))?.state === "done");
    expect((await stored(id)).map(key).sort()).toEqual(wanted.map(key).sort());
    expect(await notes()).toBe(0);
  }, 120_000);
});

import { spawnSync } from "node:child_process";
import { existsSync, mkdirSync, mkdtempSync, readdirSync, renameSync, rmSync, statfsSync, symlinkSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { itemQuery } from "../../server/items/contract";
import { listItems } from "../../server/items/list";
import { retryRestore, startRestore } from "../../server/restores/commands";
import { changeRestore } from "../../server/restores/control";
import { changeTray } from "../../server/tray/commands";
import { searchedJob, startTestBench, type TestBench, until } from "../support/bench";
import { endedRestore, planTo, wholeRestore } from "../support/restores";
import { smallDevice } from "../support/small-device";
import { pathOf, readTruth } from "../support/volume-truth";
import { checkNothingLeft, checkRestore, LONG, stateOf } from "./three-checks";

let bench: TestBench;
let jobId: number;
let chosen: number[];
/** Bytes of all chosen files. */
let bytes: number;
const truth = new Map(
  readTruth("ntfs-gpt")
    .entries.filter((entry) => entry.state === "live" || entry.state === "deleted-intact")
    .map((entry) => [pathOf(entry), entry.sha256]),
);

beforeAll(async () => {
  bench = await startTestBench();
  jobId = await searchedJob(bench, "ntfs-gpt");
  const { items } = await listItems(bench.db, jobId, itemQuery.parse({ limit: 400, condition: "whole" }));
  chosen = items.map((item) => item.id);
  bytes = items.reduce((sum, item) => sum + item.size, 0);
});
afterAll(() => bench.close());

async function start(destination: string, facts: Parameters<typeof planTo>[1] = {}, files = chosen): Promise<number> {
  await changeTray(bench.db, jobId, { items: files, chosen: true });
  return startRestore(bench.db, jobId, planTo(destination, facts));
}
const settled = async (id: number) => (await wholeRestore(bench.db, jobId, id)).counts.settled;

describe("a destination that is exchanged for a link while it is written to", () => {
  it.each(Array.from({ length: LONG ? 12 : 2 }, (_, round) => round))(
    "takes nothing to where the link leads, and goes on when the folder is back (%i)",
    async (round) => {
      const name = `Exchanged ${round}`;
      const root = join(bench.delivery, name);
      const precious = mkdtempSync(join(bench.sources, "precious-"));
      writeFileSync(join(precious, "precious"), "precious");
      const before = stateOf(bench.sources);
      const id = await start(name);
      const worker = bench.worker();
      await until(async () => (await settled(id)) > (round * 17) % 60);
      renameSync(root, `${root} moved`);
      symlinkSync(precious, root);
      const failed = await endedRestore(bench.db, jobId, id);
      expect(stateOf(bench.sources)).toEqual(before);
      checkNothingLeft(bench.delivery);
      if (failed.state === "failed") expect(failed.problem).toMatch(/exchanged, moved or removed|source|outside the delivery folder/);
      rmSync(root);
      renameSync(`${root} moved`, root);
      // One that was gone for a moment may go on by itself already.
      await retryRestore(bench.db, id).catch(() => undefined);
      const done = await until(async () => {
        const now = await endedRestore(bench.db, jobId, id);
        return now.state === "done" && now;
      });
      checkRestore(done, chosen.length, truth);
      expect(done.counts.verified).toBe(chosen.length);
      worker.kill("SIGKILL");
    },
  );
});

describe("two restores into one folder", () => {
  it("come one after the other, whoever works on them, and leave no working files", async () => {
    const half = Math.floor(chosen.length / 2);
    const first = await start("One place", {}, chosen.slice(0, half));
    const workers = [bench.worker(), bench.worker()];
    // The second is asked for while the first is written, into a folder within the first one's.
    const second = await start("One place/inside", { conflict: "replace" }, chosen.slice(half));
    const both = await until(async () => {
      const states = [await wholeRestore(bench.db, jobId, first), await wholeRestore(bench.db, jobId, second)];
      expect(states.filter(({ state }) => state === "running").length).toBeLessThan(2);
      return states.every(({ state }) => state === "done") && states;
    }, 60);
    expect(both.map(({ counts }) => counts.verified)).toEqual([half, chosen.length - half]);
    checkNothingLeft(bench.delivery);
    checkRestore(both[1] as (typeof both)[number], chosen.length - half, truth);
    for (const worker of workers) worker.kill("SIGKILL");
  });

  it("a folder in the way of a file that is to be replaced is said, and nothing stays behind", async () => {
    const files = chosen.slice(0, 3);
    const worker = bench.worker();
    const { results } = await endedRestore(bench.db, jobId, await start("In the way", {}, files));
    const output = results[0]?.output as string;
    rmSync(output);
    mkdirSync(output);
    const again = await endedRestore(bench.db, jobId, await start("In the way", { conflict: "replace" }, files));
    expect(again.results.filter(({ state }) => state === "failed")).toMatchObject([{ problem: expect.stringContaining("in the way") }]);
    expect(again.counts.verified).toBe(2);
    checkNothingLeft(bench.delivery);
    worker.kill("SIGKILL");
  });
});

/** A small file system of its own at a folder below the delivery folder, with room for the chosen files; null where there can be none. */
const mounted = (name: string, kind: "ext4" | "vfat") => smallDevice(join(bench.delivery, name), kind, (8 << 20) + Math.ceil(1.5 * bytes));

describe("a device", () => {
  it("that is full pauses the restore in words, which goes on when there is room", async (context) => {
    const device = mounted("Small", "ext4");
    if (!device) return context.skip("no file system can be mounted here");
    const workers: ReturnType<TestBench["worker"]>[] = [];
    try {
      // Fewer bytes are free than the rehearsal counts on: another program fills the device meanwhile.
      const id = await start("Small/box");
      const room = statfsSync(device.at);
      const count = String(Math.ceil(room.bavail - bytes / 2 / room.bsize));
      spawnSync("dd", ["if=/dev/zero", `of=${join(device.at, "filler")}`, `bs=${room.bsize}`, `count=${count}`], { stdio: "ignore" });
      const worker = bench.worker();
      workers.push(worker);
      const full = await endedRestore(bench.db, jobId, id);
      expect(full).toMatchObject({ state: "paused", waits: false, problem: expect.stringContaining("The destination is full") });
      expect(full.results.filter(({ state }) => state === "failed")).toEqual([]);
      const left = full.results.filter(({ state }) => state === "waiting");
      expect(left.length).toBeGreaterThan(0);
      expect(left.length + full.counts.settled).toBe(chosen.length);
      checkNothingLeft(device.at);
      rmSync(join(device.at, "filler"));
      await changeRestore(bench.db, id, { what: "resume" });
      const done = await endedRestore(bench.db, jobId, id);
      checkRestore(done, chosen.length, truth);
      expect(done.counts.verified).toBe(chosen.length);
    } finally {
      for (const worker of workers) worker.kill("SIGKILL");
      device.unmount();
    }
  });

  it("that can only be read ends the restore in words; one that is pulled out is waited for, and the restore goes on by itself", async (context) => {
    const device = mounted("Stick", "ext4");
    if (!device) return context.skip("no file system can be mounted here");
    const worker = bench.worker();
    try {
      device.unmount();
      device.mount("loop,ro");
      const id = await start("Stick/box");
      const closed = await endedRestore(bench.db, jobId, id);
      expect(closed).toMatchObject({ state: "failed", problem: expect.stringContaining("can only be read") });
      device.unmount();
      device.mount();
      await retryRestore(bench.db, id);
      await until(async () => (await settled(id)) > 5);
      device.unmount();
      const gone = await endedRestore(bench.db, jobId, id);
      // What was written to the device is not there now, and no other folder got it.
      expect(readdirSync(device.at)).toEqual([]);
      expect(gone.results.filter(({ state, since }) => state === "verified" && since === null)).toEqual([]);
      device.mount();
      if (gone.state === "paused") expect(gone).toMatchObject({ waits: true, problem: expect.stringContaining("goes on by itself") });
      // All may have been written before it was noticed that the device was gone.
      if (gone.state === "paused") await until(async () => (await wholeRestore(bench.db, jobId, id)).state === "done");
      const done = await endedRestore(bench.db, jobId, id);
      checkRestore(done, chosen.length, truth);
      expect(done.counts.verified).toBe(chosen.length);
    } finally {
      worker.kill("SIGKILL");
      device.unmount();
    }
  });

  it("that knows neither links nor capitals takes every file once", async (context) => {
    const device = mounted("Card", "vfat");
    if (!device) return context.skip("no such file system can be mounted here");
    const worker = bench.worker();
    try {
      const done = await endedRestore(bench.db, jobId, await start("Card"));
      expect(done.counts.verified + done.counts.failed).toBe(chosen.length);
      checkNothingLeft(device.at);
      const outputs = done.results.filter(({ state }) => state === "verified").map(({ output }) => (output as string).toLowerCase());
      expect(new Set(outputs).size).toBe(outputs.length);
      for (const { output } of done.results) if (output) expect(existsSync(output)).toBe(true);
    } finally {
      worker.kill("SIGKILL");
      device.unmount();
    }
  });
});

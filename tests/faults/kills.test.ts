import { type ChildProcess, execFileSync } from "node:child_process";
import { mkdirSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import { afterAll, afterEach, beforeAll, describe, expect, it } from "vitest";
import { freePort } from "../../scripts/cluster";
import { type Service, startAnsweringWeb } from "../../scripts/services";
import { itemQuery } from "../../server/items/contract";
import { listItems } from "../../server/items/list";
import { createJob } from "../../server/jobs/commands";
import { changePass, startPass } from "../../server/passes/commands";
import { listPasses } from "../../server/passes/queries";
import { startRestore } from "../../server/restores/commands";
import { listRestores } from "../../server/restores/queries";
import { addSource } from "../../server/sources/commands";
import { listSources } from "../../server/sources/queries";
import { changeTray } from "../../server/tray/commands";
import { jobWith, readFolder, startTestBench, type TestBench, until } from "../support/bench";
import { planTo, wholeRestore } from "../support/restores";
import { unsteadyLink } from "../support/unsteady-link";
import { copiesAt, imageSource, pathOf, readTruth } from "../support/volume-truth";
import { checkNothingLeft, checkRestore, LONG, sha256 } from "./three-checks";

let bench: TestBench;
/** Image of the disk, the copies its volume holds by reading it in one go, and what its maker says. */
const IMAGE = "ntfs-gpt";
let expected: string[];
const truth = new Map(
  readTruth(IMAGE)
    .entries.filter((entry) => entry.state === "live" || entry.state === "deleted-intact")
    .map((entry) => [pathOf(entry), entry.sha256]),
);
const workers: ChildProcess[] = [];

beforeAll(async () => {
  bench = await startTestBench();
});
afterEach(() => {
  for (const worker of workers.splice(0)) worker.kill("SIGKILL");
});
afterAll(() => bench.close());

/** The same numbers each time, so that a failure comes again. */
function randomFrom(seed: number): (most: number) => number {
  let state = seed;
  return (most) => {
    state = (Math.imul(state, 1_103_515_245) + 12_345) & 0x7fff_ffff;
    return state % most;
  };
}
const pause = (ms: number) => new Promise((done) => setTimeout(done, ms));
const started = (settings: Record<string, string> = {}): ChildProcess => {
  const worker = bench.worker(settings);
  workers.push(worker);
  return worker;
};

async function newPass(): Promise<{ jobId: number; passId: number; path: string; hash: string }> {
  const { jobId, source, path } = await jobWith(bench, IMAGE);
  const volume = source.volumes.find(({ filesystem }) => filesystem === "ntfs");
  expected ??= copiesAt(imageSource(IMAGE), volume?.offset as number)
    .map((copy) => `${copy.reference} ${copy.path} ${copy.size} ${copy.condition}`)
    .sort();
  return { jobId, passId: await startPass(bench.db, jobId, volume?.id as number), path, hash: sha256(path) };
}
const stateOfPass = async (jobId: number) => (await listPasses(bench.db, jobId))[0]?.state;

/** The three checks of a pass: nothing lost and nothing twice (its copies are those of one reading), nothing of the source changed. */
async function checkPass({ passId, path, hash }: Awaited<ReturnType<typeof newPass>>): Promise<void> {
  const { rows } = await bench.pool.query<{ key: string }>(
    "select c.reference || ' ' || f.path || '/' || c.name || ' ' || c.size || ' ' || c.condition as key from copies c join folders f on f.id = c.folder_id where c.pass_id = $1",
    [passId],
  );
  expect(rows.map(({ key }) => key).sort()).toEqual(expected);
  expect(sha256(path)).toBe(hash);
}

describe("a pass", () => {
  it(`whose worker is killed ${LONG ? 60 : 6} times at any moment stores every copy once`, async () => {
    const random = randomFrom(1);
    let killed = 0;
    while (killed < (LONG ? 60 : 6)) {
      const pass = await newPass();
      while ((await stateOfPass(pass.jobId)) !== "done" && killed < (LONG ? 60 : 6)) {
        const worker = started({ COMPASS_BATCH: String(4 + random(40)) });
        await pause(400 + random(1200));
        worker.kill("SIGKILL");
        killed += 1;
      }
      started();
      await until(async () => (await stateOfPass(pass.jobId)) === "done", 40);
      await checkPass(pass);
      for (const worker of workers.splice(0)) worker.kill("SIGKILL");
    }
  }, 400_000);

  it("whose worker is held still while another takes over is stored once, also when the first goes on", async () => {
    const pass = await newPass();
    const first = started({ COMPASS_BATCH: "4" });
    await until(async () => ((await listPasses(bench.db, pass.jobId))[0]?.done ?? 0) > 0);
    first.kill("SIGSTOP");
    started();
    await until(async () => (await stateOfPass(pass.jobId)) === "done", 60);
    first.kill("SIGCONT");
    await pause(3000);
    await checkPass(pass);
  }, 120_000);

  it("is not troubled by a clock that is set forth and back by hours", async () => {
    const pass = await newPass();
    const jumps = join(bench.sources, "jumps.mjs");
    writeFileSync(
      jumps,
      "const now = Date.now; let by = 0; setInterval(() => { by = by === 0 ? 18e6 : by > 0 ? -18e6 : 0; }, 200).unref(); Date.now = () => now() + by;",
    );
    started({ COMPASS_BATCH: "4", NODE_OPTIONS: `--import ${jumps}` });
    await until(async () => (await stateOfPass(pass.jobId)) === "done", 60);
    await checkPass(pass);
  }, 120_000);

  it("goes on when its database answers late, or all connections are cut again and again", async () => {
    const address = new URL(process.env.COMPASS_DATABASE_URL as string);
    const link = await unsteadyLink({ host: address.hostname, port: Number(address.port) });
    address.port = String(link.port);
    const random = randomFrom(2);
    try {
      const pass = await newPass();
      // Who started a worker that lost its database starts it again. It ends in words of its own, and not by a fault.
      const codes: (number | null)[] = [];
      let over = false;
      const keep = (): void => {
        const worker = started({ COMPASS_BATCH: "4", COMPASS_DATABASE_URL: address.href });
        worker.once("exit", (code) => {
          codes.push(code);
          if (!over) keep();
        });
      };
      keep();
      await until(async () => ((await listPasses(bench.db, pass.jobId))[0]?.done ?? 0) > 0);
      await link.hold(LONG ? 60_000 : 4_000);
      for (let cut = 0; cut < (LONG ? 30 : 3) && (await stateOfPass(pass.jobId)) !== "done"; cut += 1) {
        await pause(200 + random(1500));
        link.cut();
      }
      await until(async () => (await stateOfPass(pass.jobId)) === "done", 90);
      over = true;
      expect(codes.filter((code) => code !== 75)).toEqual([]);
      await checkPass(pass);
    } finally {
      link.close();
    }
  }, 400_000);

  it("stops when it is asked to, whatever its reader is at", async () => {
    // A folder of very many files: what leads to known places is worked out from all of them before anything is given out. So many that the pass does
    // not end before it is asked to stop, on a busy machine either.
    const folder = join(bench.sources, "many");
    for (let number = 0; number < 200; number += 1) {
      mkdirSync(join(folder, `${number}`), { recursive: true });
      execFileSync("sh", ["-c", `cd '${join(folder, `${number}`)}' && seq 1 1000 | xargs touch`]);
    }
    const jobId = await createJob(bench.db, { title: "Many", client: "" });
    await addSource(bench.db, jobId, folder);
    const [source] = await listSources(bench.db, jobId);
    started();
    for (const [wanted, state] of [
      ["pause", "paused"],
      ["stop", "stopped"],
    ] as const) {
      const passId =
        wanted === "pause" || (await listPasses(bench.db, jobId)).length === 0
          ? await startPass(bench.db, jobId, source?.volumes[0]?.id as number, "known-places")
          : ((await listPasses(bench.db, jobId))[0]?.id as number);
      if (wanted === "stop") await changePass(bench.db, passId, "run");
      await until(async () => (await stateOfPass(jobId)) === "running");
      await pause(300);
      const asked = Date.now();
      await changePass(bench.db, passId, wanted);
      await until(async () => (await stateOfPass(jobId)) === state);
      console.log(`${wanted} took effect after ${Date.now() - asked} ms`);
    }
  }, 120_000);
});

describe("a restore", () => {
  it(`whose worker is killed ${LONG ? 60 : 5} times at any moment writes every file once, and leaves nothing beside them`, async () => {
    const random = randomFrom(3);
    const { jobId } = await newPass();
    started();
    await until(async () => (await stateOfPass(jobId)) === "done", 40);
    for (const worker of workers.splice(0)) worker.kill("SIGKILL");
    const { items } = await listItems(bench.db, jobId, itemQuery.parse({ limit: 400, condition: "whole" }));
    let killed = 0;
    for (let round = 0; killed < (LONG ? 60 : 5); round += 1) {
      await changeTray(bench.db, jobId, { items: items.map(({ id }) => id), chosen: true });
      const id = await startRestore(bench.db, jobId, planTo(`Killed ${round}`));
      const restore = () => wholeRestore(bench.db, jobId, id);
      while (killed < (LONG ? 60 : 5) && (await restore()).state !== "done") {
        const worker = started();
        await pause(500 + random(1500));
        worker.kill("SIGKILL");
        killed += 1;
      }
      const last = started();
      const done = await until(async () => {
        const now = await restore();
        return now.state === "done" && now;
      }, 60);
      checkRestore(done, items.length, truth);
      expect(done.counts.verified).toBe(items.length);
      checkNothingLeft(bench.delivery);
      last.kill("SIGKILL");
    }
  }, 400_000);
});

describe("a restore of very many files", () => {
  it.runIf(LONG)(
    "of 2,000, whose worker is killed 50 times at any moment, writes every one once under its own name",
    async () => {
      const random = randomFrom(11);
      const folder = join(bench.sources, "two thousand");
      mkdirSync(folder);
      const truths = new Map<string, string>();
      for (let number = 0; number < 2000; number += 1) {
        const content = Buffer.from(`file ${number}\n`.repeat(1 + random(400)));
        writeFileSync(join(folder, `note ${number}.txt`), content);
        truths.set(`/note ${number}.txt`, sha256(join(folder, `note ${number}.txt`)));
      }
      const { jobId } = await readFolder(bench, folder, "Two thousand");
      let killed = 0;
      for (let round = 0; killed < 50; round += 1) {
        await changeTray(bench.db, jobId, { everything: true, chosen: true });
        const id = await startRestore(bench.db, jobId, planTo(`Very many ${round}`));
        const state = async () => (await listRestores(bench.db, jobId)).find((each) => each.id === id)?.state;
        while (killed < 50 && (await state()) !== "done") {
          const worker = started();
          await pause(1000 + random(2500));
          worker.kill("SIGKILL");
          killed += 1;
        }
        const last = started();
        await until(async () => (await state()) === "done", 120);
        const done = await wholeRestore(bench.db, jobId, id);
        expect(done.counts.verified).toBe(2000);
        checkRestore(done, 2000, truths);
        checkNothingLeft(bench.delivery);
        last.kill("SIGKILL");
      }
      console.log(`${killed} kills`);
    },
    900_000,
  );
});

describe("a preview", () => {
  let web: Service;
  let address: string;
  beforeAll(async () => {
    const port = await freePort();
    address = `http://127.0.0.1:${port}`;
    web = await startAnsweringWeb("127.0.0.1", port, { ...process.env, NODE_ENV: "production", COMPASS_PORT: String(port) });
  }, 90_000);
  afterAll(() => web?.stop());

  /** The processes the web server opens contents in. */
  const contentProcesses = (): number[] =>
    execFileSync("ps", ["-eo", "pid,ppid,args"], { encoding: "utf8" })
      .split("\n")
      .map((line) => line.trim().split(/\s+/))
      .filter(([, parent, ...args]) => Number(parent) === web.process.pid && args.join(" ").includes("content-process"))
      .map(([pid]) => Number(pid));

  it(`whose process is killed ${LONG ? 60 : 8} times is refused in words or given in full, never in part, and the next one is given`, async () => {
    const random = randomFrom(4);
    const { jobId } = await newPass();
    started();
    await until(async () => (await stateOfPass(jobId)) === "done", 40);
    const { items } = await listItems(bench.db, jobId, itemQuery.parse({ limit: 50, condition: "whole" }));
    const copies = items.filter(({ size }) => size > 4096).map(({ bestCopyId }) => bestCopyId as number);
    const ask = async (copy: number) => {
      const response = await fetch(`${address}/api/copies/${copy}/bytes?at=0&length=4096`);
      return { status: response.status, body: Buffer.from(await response.arrayBuffer()) };
    };
    const right = new Map<number, string>();
    for (const copy of copies) {
      // The first process of all may take longer to start, on a busy machine, than an answer may: that is refused in words, and asked again.
      let answer = await ask(copy);
      for (let tries = 0; tries < 4 && answer.status === 422; tries += 1) answer = await ask(copy);
      const { status, body } = answer;
      expect(status).toBe(200);
      right.set(copy, body.toString("hex"));
    }
    for (let kill = 0; kill < (LONG ? 60 : 8); kill += 1) {
      const asked = Promise.all(
        Array.from({ length: 6 }, () => copies[random(copies.length)] as number).map(async (copy) => ({ copy, ...(await ask(copy)) })),
      );
      await pause(random(30));
      for (const pid of contentProcesses()) {
        try {
          process.kill(pid, "SIGKILL");
        } catch {
          // It has ended by itself.
        }
      }
      for (const { copy, status, body } of await asked) {
        expect([200, 422]).toContain(status);
        if (status === 200) expect(body.toString("hex")).toBe(right.get(copy));
        else expect(JSON.parse(body.toString()).problem).toMatch(/^[A-Z].*\.$/);
      }
      const after = await ask(copies[0] as number);
      expect([after.status, after.body.toString("hex")]).toEqual([200, right.get(copies[0] as number)]);
    }
  }, 200_000);
});

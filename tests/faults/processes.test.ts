import { type ChildProcess, execFileSync, spawn, spawnSync } from "node:child_process";
import { chmodSync, mkdtempSync, readdirSync, readFileSync, rmSync, writeFileSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { afterEach, describe, expect, it } from "vitest";
import { freePort } from "../../scripts/cluster";
import { BENCH_KEEPS_MS } from "../../server/shares/door-address";
import { until } from "../support/bench";
import { smallDevice } from "../support/small-device";
import { LONG } from "./three-checks";

const started: ChildProcess[] = [];
afterEach(() => {
  for (const child of started.splice(0)) child.kill("SIGKILL");
});

interface Start {
  readonly child: ChildProcess;
  readonly address: string;
  readonly folder: string;
  /** All it has written so far. */
  output(): string;
  ended(): Promise<number | null>;
}

const { COMPASS_DATABASE_URL: _, ...withoutDatabase } = process.env;

/** Starts the application as a person does, on a data folder of its own. */
async function startApplication(
  settings: Record<string, string> = {},
  folder = dataFolder(),
  command: readonly [string, ...string[]] = [process.execPath, "scripts/run.mjs", "start"],
  ownGroup = false,
): Promise<Start> {
  const port = settings.COMPASS_PORT ?? String(await freePort());
  const child = spawn(command[0], command.slice(1), {
    stdio: ["ignore", "pipe", "pipe"],
    detached: ownGroup,
    env: {
      ...withoutDatabase,
      COMPASS_DATA: folder,
      COMPASS_SOURCES: join(folder, "sources"),
      COMPASS_DELIVERY: join(folder, "delivery"),
      COMPASS_PORT: port,
      COMPASS_LOG: "error",
      ...settings,
    },
  });
  started.push(child);
  let said = "";
  for (const stream of [child.stdout, child.stderr]) stream?.setEncoding("utf8").on("data", (text: string) => (said += text));
  const ended = new Promise<number | null>((done) => child.once("exit", (code) => done(code)));
  return { child, folder, address: `http://127.0.0.1:${port}`, output: () => said, ended: () => ended };
}

function dataFolder(): string {
  const folder = mkdtempSync(join(tmpdir(), "compass-start-"));
  // The database server's user must be able to reach its folder in here.
  chmodSync(folder, 0o711);
  return folder;
}

const ready = (start: Start) =>
  until(async () => {
    if (start.child.exitCode !== null) throw new Error(`it ended:\n${start.output()}`);
    return start.output().includes("Tidy Compass is ready");
  }, 80);

/** The processes whose environment or command line names a folder: all that a start on it has made. */
function processesOf(folder: string): { pid: number; words: string }[] {
  return readdirSync("/proc")
    .filter((name) => /^\d+$/.test(name) && Number(name) !== process.pid)
    .flatMap((name) => {
      try {
        const words = readFileSync(`/proc/${name}/cmdline`, "latin1").replaceAll("\0", " ");
        const environment = readFileSync(`/proc/${name}/environ`, "latin1");
        const state = /^State:\s+(\w)/m.exec(readFileSync(`/proc/${name}/status`, "latin1"))?.[1];
        return state !== "Z" && (words.includes(folder) || environment.includes(`COMPASS_DATA=${folder}\0`))
          ? [{ pid: Number(name), words }]
          : [];
      } catch {
        return [];
      }
    });
}
const processOf = (folder: string, words: RegExp) => processesOf(folder).find((each) => words.test(each.words));
const health = async (start: Start): Promise<{ status: number; workers?: number; problem?: string }> => {
  const response = await fetch(`${start.address}/api/health`);
  return { status: response.status, ...((await response.json()) as object) };
};
const healthy = (start: Start, seconds = 60) =>
  until(async () => {
    const found = await health(start).catch(() => null);
    return found?.status === 200 && (found.workers ?? 0) > 0;
  }, seconds);
const nothingLeft = (folder: string) =>
  until(async () => processesOf(folder).length === 0, 60).catch(() => expect(processesOf(folder)).toEqual([]));

const WEB = /next(-server|\/dist\/bin\/next)/;
const WORKER = /dist\/main\.js/;
const DATABASE = /\/postgres -D/;

describe.runIf(process.platform === "linux")("the application's processes", () => {
  it("are started anew when they die, and none ends the others; the database too; a second start leaves the first alone", async () => {
    const start = await startApplication();
    await ready(start);
    await healthy(start);
    // The bench keeps connections longer than those who use them: the door, and any client that keeps some for its next request.
    expect((await fetch(`${start.address}/api/health`)).headers.get("keep-alive")).toBe(`timeout=${BENCH_KEEPS_MS / 1000}`);
    const kills: [RegExp, string][] = [
      [WORKER, "The worker was ended by SIGKILL"],
      [DATABASE, "The database has ended"],
      [WEB, "The web server was ended by SIGKILL"],
    ];
    for (const [what, words] of LONG ? [...kills, ...kills, ...kills] : kills) {
      const before = processesOf(start.folder).filter((each) =>
        [WEB, WORKER, DATABASE].some((one) => one.test(each.words) && one !== what),
      );
      const victim = processOf(start.folder, what);
      expect(victim, String(what)).toBeDefined();
      process.kill(victim?.pid as number, "SIGKILL");
      await until(async () => start.output().includes(words), 60);
      await healthy(start);
      // Those that were not killed are the same as before; without its database a worker may have begun anew.
      const after = new Set(processesOf(start.folder).map(({ pid }) => pid));
      for (const { pid, words: command } of before) if (what !== DATABASE || WEB.test(command)) expect(after.has(pid), command).toBe(true);
    }
    const second = await startApplication({}, start.folder);
    expect(await second.ended()).toBe(1);
    expect(second.output().trim()).toMatch(/^Tidy Compass is running already with the data folder .* \(process \d+\)\. .*\.$/);
    expect((await health(start)).status).toBe(200);
    start.child.kill("SIGTERM");
    expect(await start.ended()).toBe(0);
    await nothingLeft(start.folder);
  }, 300_000);

  it("waits for a database that is gone, in words, and goes on by itself", async () => {
    const start = await startApplication();
    await ready(start);
    await healthy(start);
    // It is held still, then killed with all its children: as if its computer had gone.
    const database = processOf(start.folder, DATABASE)?.pid as number;
    // Whoever starts it again finds its program missing for a while.
    const facts = JSON.parse(readFileSync(join(start.folder, "database.json"), "utf8")) as { folder: string };
    const version = join(facts.folder, "PG_VERSION");
    const text = readFileSync(version, "utf8");
    writeFileSync(version, "0\n");
    process.kill(database, "SIGKILL");
    const closed = await until(async () => {
      const found = await health(start);
      return found.status === 503 && found;
    }, 60);
    expect(closed.problem).toBe(
      "The database does not answer just now. What was stored is kept, and work goes on by itself when it is back. See whether this was done, and do it again if not.",
    );
    await until(async () => start.output().includes("It is tried again in"), 60);
    writeFileSync(version, text);
    await healthy(start, 90);
    start.child.kill("SIGTERM");
    expect(await start.ended()).toBe(0);
    await nothingLeft(start.folder);
  }, 240_000);

  it("waits for room when the disk of the database is full, and goes on by itself when there is some", async (context) => {
    const folder = dataFolder();
    const device = smallDevice(join(folder, "data"), "ext4", 400 << 20);
    if (!device) return context.skip("no file system can be mounted here");
    try {
      chmodSync(device.at, 0o711);
      const start = await startApplication({}, device.at);
      await ready(start);
      await healthy(start);
      const post = () =>
        fetch(`${start.address}/api/jobs`, {
          method: "POST",
          headers: { "Content-Type": "application/json" },
          body: JSON.stringify({ title: "Full", client: "x".repeat(190) }),
        }).catch(() => null);
      spawnSync("dd", ["if=/dev/zero", `of=${join(device.at, "filler")}`, "bs=1M"], { stdio: "ignore" });
      const refused = await until(async () => {
        const answers = await Promise.all(Array.from({ length: 40 }, post));
        return answers.find((response) => response && response.status !== 200);
      }, 90);
      expect(refused.status).toBe(503);
      expect(((await refused.json()) as { problem: string }).problem).toMatch(
        /^(The disk the database is on is full|The database does not answer)/,
      );
      const written = ((await (await fetch(`${start.address}/api/health`)).json()) as { problem?: string }).problem;
      expect(written ?? "").not.toContain("at ");
      rmSync(join(device.at, "filler"));
      await until(async () => (await post())?.status === 200, 90);
      await healthy(start, 90);
      start.child.kill("SIGTERM");
      expect(await start.ended()).toBe(0);
      await nothingLeft(device.at);
    } finally {
      device.unmount();
    }
  }, 300_000);

  const moments = LONG ? Array.from({ length: 24 }, (_, i) => 100 + i * 250) : [150, 900, 1800, 3200];
  it.each(moments)(
    "leave nothing behind when they are ended %i ms after the very first start",
    async (moment) => {
      for (const [signal, group] of [
        ["SIGTERM", false],
        // Who ends the first process as by Ctrl-C, but not its group.
        ["SIGINT", false],
        // Ctrl-C reaches the whole group, in the same moment.
        ["SIGINT", true],
      ] as const) {
        const start = await startApplication({}, dataFolder(), undefined, group);
        await new Promise((done) => setTimeout(done, moment));
        const { pid } = start.child;
        process.kill(group ? -(pid as number) : (pid as number), signal);
        await start.ended();
        await nothingLeft(start.folder);
        expect(start.output()).not.toMatch(/\n\s+at /);
        rmSync(start.folder, { recursive: true, force: true });
      }
    },
    240_000,
  );

  it("leave nothing behind when what a person started is ended: npm and the shell between take the signal for themselves", async () => {
    const start = await startApplication({}, dataFolder(), ["npm", "start"]);
    await ready(start);
    start.child.kill("SIGTERM");
    await start.ended();
    await nothingLeft(start.folder);
  }, 120_000);

  it("say in one sentence what is wrong with the settings or the data folder", async () => {
    const folder = dataFolder();
    const cases: [Record<string, string>, string, RegExp][] = [
      [{ COMPASS_PORT: "seventy" }, folder, /^The setting COMPASS_PORT is not right: /],
      [{ COMPASS_DATABASE_URL: "mysql://x" }, folder, /^The setting COMPASS_DATABASE_URL is not right: /],
      [{}, "/proc/compass", /^The folder \/proc\/compass cannot be made/],
    ];
    for (const [settings, data, words] of cases) {
      const start = await startApplication(settings, data);
      expect(await start.ended(), start.output()).toBe(1);
      expect(start.output().trim()).toMatch(words);
      expect(start.output().trim().split("\n")).toHaveLength(1);
    }
    expect(execFileSync("ls", ["-A", folder], { encoding: "utf8" })).toBe("");
  }, 60_000);

  it("of two first starts at the same moment one goes on and the other says why it does not", async () => {
    const folder = dataFolder();
    const both = await Promise.all([startApplication({}, folder), startApplication({}, folder)]);
    const loser = await Promise.race(both.map((start) => start.ended().then(() => start)));
    expect(loser.output().trim()).toMatch(/^(Tidy Compass is running already|The data folder .* cannot be taken)[^\n]*$/);
    const winner = both.find((start) => start !== loser) as Start;
    await ready(winner);
    winner.child.kill("SIGTERM");
    expect(await winner.ended()).toBe(0);
    await nothingLeft(folder);
  }, 120_000);
});

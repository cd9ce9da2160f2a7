import { type ChildProcess, spawn } from "node:child_process";
import { chmodSync, existsSync, mkdirSync, mkdtempSync, readFileSync, rmSync } from "node:fs";
import { tmpdir } from "node:os";
import { join, relative } from "node:path";
import { buildAll } from "./build";
import { type Cluster, freePort, startCluster } from "./cluster";
import { complain } from "./launch";
import { ensureChromium, ensureTestTools } from "./packages";

interface Tally {
  passed: number;
  failed: number;
}

/** What is used of the reports of the two test runners. */
interface VitestReport {
  readonly numPassedTests: number;
  readonly numFailedTests: number;
  readonly testResults: readonly {
    readonly name: string;
    readonly message: string;
    readonly assertionResults: readonly {
      readonly status: string;
      readonly fullName: string;
      readonly failureMessages: readonly string[];
    }[];
  }[];
}
interface PlaywrightSuite {
  readonly suites?: readonly PlaywrightSuite[];
  readonly specs?: readonly {
    readonly ok: boolean;
    readonly file: string;
    readonly title: string;
    readonly tests: readonly { readonly results: readonly { readonly error?: { readonly message?: string } }[] }[];
  }[];
}
interface PlaywrightReport extends PlaywrightSuite {
  readonly stats: { readonly expected: number; readonly unexpected: number; readonly flaky: number };
}

const bin = (name: string) => join("node_modules", name);
const tally: Tally = { passed: 0, failed: 0 };
/** The names of the tests that failed, each with the first lines of why: repeated at the end, where they are found. */
const failures: string[] = [];
const work = mkdtempSync(join(tmpdir(), "compass-test-"));
// The database server's user must be able to reach its folder in here.
chmodSync(work, 0o711);

/** What runs now, to be ended with this process. */
const running = new Set<ChildProcess>();
let cluster: Cluster | null = null;

/** Ends what runs, the database too, and leaves nothing behind. */
function clear(): void {
  for (const child of running) child.kill("SIGTERM");
  cluster?.stop();
  cluster = null;
  rmSync(work, { recursive: true, force: true });
}

for (const signal of ["SIGINT", "SIGTERM", "SIGHUP", "disconnect"] as const)
  process.on(signal, () => {
    clear();
    process.exit(1);
  });

function run(args: readonly string[], environment: Record<string, string> = {}): Promise<boolean> {
  return new Promise((done) => {
    const child = spawn(process.execPath, args, {
      stdio: ["ignore", "inherit", "inherit"],
      // What tests leave in the temporary folder goes with this run's own.
      env: { ...process.env, TMPDIR: work, NEXT_TELEMETRY_DISABLED: "1", ...environment },
    });
    running.add(child);
    child.on("exit", (code) => {
      running.delete(child);
      done(code === 0);
    });
  });
}

function count(step: string, result: Tally): void {
  tally.passed += result.passed;
  tally.failed += result.failed;
  console.log(`${step}: ${result.passed} passed, ${result.failed} failed`);
}

/** A check that is one test by itself. */
async function check(step: string, ...commands: string[][]): Promise<void> {
  let good = true;
  for (const command of commands) good &&= await run(command);
  if (!good) fail(step, "the check above says what is wrong", undefined);
  count(step, good ? { passed: 1, failed: 0 } : { passed: 0, failed: 1 });
}

/** A run of the test runner; a run that ends badly without a failed test (a crash, no test found) counts as one failed. */
function counted(step: string, good: boolean, result: Tally | null): void {
  const found = result ?? { passed: 0, failed: 0 };
  const silent = (!good && found.failed === 0) || found.passed + found.failed === 0;
  if (silent) fail(step, "ended badly without a failed test: see above", undefined);
  count(step, silent ? { ...found, failed: found.failed + 1 } : found);
}

function fail(step: string, name: string, why: string | undefined): void {
  const lines = (why ?? "").split("\n").filter((line) => line.trim() !== "");
  failures.push([`failed: ${step}: ${name}`, ...lines.slice(0, 12).map((line) => `    ${line.slice(0, 400)}`)].join("\n"));
}

const readReport = (file: string): unknown => (existsSync(file) ? JSON.parse(readFileSync(file, "utf8")) : null);

async function vitest(step: string, environment: Record<string, string>, projects = [step]): Promise<void> {
  const file = join(work, `${step}.json`);
  const chosen = projects.flatMap((project) => ["--project", project]);
  const good = await run(
    [bin("vitest/vitest.mjs"), "run", ...chosen, "--reporter=default", "--reporter=json", `--outputFile.json=${file}`],
    environment,
  );
  const report = readReport(file) as VitestReport | null;
  for (const { name, message, assertionResults } of report?.testResults ?? []) {
    const failed = assertionResults.filter(({ status }) => status === "failed");
    for (const { fullName, failureMessages } of failed) fail(step, `${relative(process.cwd(), name)}: ${fullName}`, failureMessages[0]);
    if (message && failed.length === 0) fail(step, relative(process.cwd(), name), message);
  }
  counted(step, good, report && { passed: report.numPassedTests, failed: report.numFailedTests });
}

async function playwright(project: string, environment: Record<string, string>): Promise<void> {
  const file = join(work, `e2e-${project}.json`);
  const good = await run([bin("@playwright/test/cli.js"), "test", `--project=${project}`, "--reporter=list,json"], {
    ...environment,
    PLAYWRIGHT_JSON_OUTPUT_NAME: file,
  });
  const report = readReport(file) as PlaywrightReport | null;
  const gather = ({ suites = [], specs = [] }: PlaywrightSuite): void => {
    for (const { ok, file: where, title, tests } of specs)
      if (!ok) fail(project, `${where}: ${title}`, tests.flatMap(({ results }) => results).find(({ error }) => error)?.error?.message);
    suites.forEach(gather);
  };
  gather(report ?? {});
  counted(
    `end to end, ${project}`,
    good,
    report && { passed: report.stats.expected, failed: report.stats.unexpected + report.stats.flaky },
  );
}

/** Makes a folder of its own for one of several runs beside one another. */
function folderFor(name: string): string {
  const folder = join(work, name);
  mkdirSync(folder);
  chmodSync(folder, 0o711);
  return folder;
}

async function main(): Promise<void> {
  ensureChromium();
  ensureTestTools();
  await check("types", [bin("next/dist/bin/next"), "typegen"], [bin("typescript/bin/tsc"), "--noEmit"]);
  await check("lint", [bin("@biomejs/biome/bin/biome"), "check", "--colors=off", "."]);
  await check("boundaries", ["--import", "tsx", "scripts/check-boundaries.ts"]);
  await check("dead code", [bin("knip/bin/knip.js")]);
  await vitest("unit", {}, ["unit", "apart"]);
  try {
    cluster = await startCluster(join(work, "data"));
    await buildAll();
    const url = cluster.url("");
    const environment = async (name: string): Promise<Record<string, string>> => {
      const folder = folderFor(name);
      return {
        COMPASS_TEST_DATABASE: url,
        COMPASS_TEST_WORK: folder,
        TMPDIR: folder,
        COMPASS_TEST_PORT: String(await freePort()),
      };
    };
    await vitest("integration", await environment("integration"), ["integration", "faults"]);
    // Two at a time: each of these waits as often as it computes.
    await Promise.all(["views", "ways"].map(async (project) => playwright(project, await environment(project))));
  } finally {
    clear();
  }
}

main()
  .catch((error: unknown) => {
    complain(error);
    fail("set-up", error instanceof Error ? error.message : String(error), undefined);
    tally.failed += 1;
  })
  .finally(() => {
    for (const failure of failures) console.log(failure);
    console.log(`${tally.passed} passed, ${tally.failed} failed`);
    process.exit(tally.failed === 0 && tally.passed > 0 ? 0 : 1);
  });

import { execFile } from "node:child_process";
import { randomBytes } from "node:crypto";
import { mkdirSync, mkdtempSync, writeFileSync } from "node:fs";
import { tmpdir } from "node:os";
import { basename, join } from "node:path";
import { promisify } from "node:util";
import type { Pool } from "pg";
import { runTask } from "../server/content/pool";
import { type Database, open } from "../server/database/connection";
import { migrateDatabase } from "../server/database/migrate";
import { itemQuery } from "../server/items/contract";
import { listItems } from "../server/items/list";
import { createJob } from "../server/jobs/commands";
import { startPass } from "../server/passes/commands";
import { listPasses } from "../server/passes/queries";
import { startRestore } from "../server/restores/commands";
import { plan } from "../server/restores/contract";
import { listRestores } from "../server/restores/queries";
import { rehearsePage, rehearseSums } from "../server/restores/rehearsal";
import { addSource } from "../server/sources/commands";
import { listSources } from "../server/sources/queries";
import { changeTray } from "../server/tray/commands";
import { manyItems } from "../tests/support/million";
import { runPass } from "../worker/run-pass";
import { runRestore } from "../worker/run-restore";

const FILES = 1000;
const BYTES = 200;
const LARGE_FILES = 4;
const LARGE_BYTES = 128 << 20;
const ROUNDS = 3;
const MANY = 300_000;
const PLAN = plan.parse({ destination: "set for each" });

/** Small and large files restored and read again, beside general tools; then the rehearsal of very many. The figures are printed as JSON. */
async function main(): Promise<void> {
  const [, , url = ""] = process.argv;
  const work = mkdtempSync(join(tmpdir(), "compass-restoring-"));
  const [sources, delivery] = [join(work, "sources"), join(work, "delivery")];
  Object.assign(process.env, {
    COMPASS_DATABASE_URL: url,
    COMPASS_SOURCES: sources,
    COMPASS_DELIVERY: delivery,
    COMPASS_DATA: work,
    COMPASS_LOG: "error",
  });
  const small = join(sources, "small files");
  mkdirSync(small, { recursive: true });
  for (let number = 0; number < FILES; number += 1) writeFileSync(join(small, `${number}.txt`), String(number).padEnd(BYTES, "."));
  const large = join(sources, "large files");
  mkdirSync(large);
  for (let number = 0; number < LARGE_FILES; number += 1) writeFileSync(join(large, `${number}.bin`), randomBytes(LARGE_BYTES));
  await migrateDatabase(url);
  const { db, pool } = open(url);
  const files = {
    small: await besideTheTools(db, pool, small, join(work, "copied small")),
    large: await besideTheTools(db, pool, large, join(work, "copied large")),
  };
  console.log(JSON.stringify({ files }));
  const many = await manyItems(url, MANY);
  await changeTray(db, many, { everything: true, chosen: true });
  const wishes = { ...PLAN, destination: "Many" };
  const longest = watchLoop();
  const [page, time] = await timed(() => rehearsePage(db, many, wishes));
  const [, last] = await timed(() => rehearsePage(db, many, wishes, 1400));
  const [sums, summed] = await timed(() => rehearseSums(db, many, wishes));
  const silence = longest();
  const [survey, surveyed] = await timed(() => runTask("survey", [many, wishes]));
  // What another page asks for meanwhile: a page of the list, one after the other.
  const other = () => listItems(db, many, itemQuery.parse({ show: "all", q: "log 7", limit: 50 }));
  const quiet = await p95(other, until(40));
  const rehearsing = (async () => {
    for (let round = 0; round < 3; round += 1)
      await Promise.all([
        rehearsePage(db, many, wishes),
        rehearsePage(db, many, wishes, 1400),
        rehearseSums(db, many, wishes),
        runTask("survey", [many, wishes]),
      ]);
  })();
  const busy = await p95(other, whilePending(rehearsing));
  const [, begun] = await timed(() => startRestore(db, many, wishes).catch((error: Error) => error.message));
  await pool.end();
  console.log(
    JSON.stringify({
      rehearsal: {
        pages: page.pages,
        files: sums.writable + sums.unwritable,
        sumsMs: Math.round(summed),
        firstPageMs: Math.round(time),
        farPageMs: Math.round(last),
        kilobytes: Math.round(JSON.stringify(page).length / 1024),
        longestSilenceMs: Math.round(silence),
        surveyMs: Math.round(surveyed),
        meeting: survey.meeting,
        startMs: Math.round(begun),
        otherRequestsP95Ms: { alone: Math.round(quiet), meanwhile: Math.round(busy) },
      },
    }),
  );
  process.exit(0);
}

/**
 * Restores a folder (written, flushed, read again, compared) and copies and hashes the same files by general tools, in turns.
 * @returns how many files were verified, how many a second, and the tools' time over ours, the best round of each
 */
async function besideTheTools(db: Database, pool: Pool, folder: string, copied: string) {
  const job = await createJob(db, { title: basename(folder), client: "" });
  await addSource(db, job, folder);
  const volume = (await listSources(db, job))[0]?.volumes[0];
  const pass = await startPass(db, job, volume?.id ?? 0);
  while ((await listPasses(db, job)).find((each) => each.id === pass)?.state !== "done")
    await runPass(db, pool, pass, "bench", () => false);
  let [ours, tools, verified] = [Number.POSITIVE_INFINITY, Number.POSITIVE_INFINITY, 0];
  for (let round = 0; round < ROUNDS; round += 1) {
    await changeTray(db, job, { everything: true, chosen: true });
    const restore = await startRestore(db, job, { ...PLAN, destination: `${basename(folder)} ${round}` });
    ours = Math.min(ours, (await timed(() => runRestore(db, restore, () => false)))[1]);
    verified = (await listRestores(db, job)).find(({ id }) => id === restore)?.counts.verified ?? 0;
    const copy = `cp -r "$1" "$2" && find "$2" -type f -exec sha256sum {} + > /dev/null && rm -r "$2"`;
    const run = promisify(execFile);
    tools = Math.min(tools, (await timed(() => run("sh", ["-c", copy, "sh", folder, copied])))[1]);
  }
  return { verified, perSecond: Math.round((verified / ours) * 1000), againstCopyAndHash: Math.round((tools / ours) * 100) / 100 };
}

async function timed<T>(work: () => Promise<T>): Promise<[T, number]> {
  const before = performance.now();
  return [await work(), performance.now() - before];
}

/** How long 95 of 100 requests take at most, in milliseconds, one after the other as long as `goOn` says. */
async function p95(ask: () => Promise<unknown>, goOn: () => boolean): Promise<number> {
  const times: number[] = [];
  while (goOn()) times.push((await timed(ask))[1]);
  return times.sort((a, b) => a - b)[Math.floor(times.length * 0.95)] ?? 0;
}

/** So many times. */
function until(count: number): () => boolean {
  let left = count;
  return () => left-- > 0;
}

/** As long as work goes on. */
function whilePending(work: Promise<unknown>): () => boolean {
  let pending = true;
  void work.finally(() => {
    pending = false;
  });
  return () => pending;
}

/** Watches this process's event loop. @returns a function that gives the longest silence so far, in milliseconds */
function watchLoop(): () => number {
  let longest = 0;
  let last = performance.now();
  setInterval(() => {
    const now = performance.now();
    longest = Math.max(longest, now - last);
    last = now;
  }, 5).unref();
  return () => longest;
}

await main();

import { mkdirSync, mkdtempSync, writeFileSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { runTask } from "../server/content/pool";
import { open } from "../server/database/connection";
import { migrateDatabase } from "../server/database/migrate";
import { itemQuery } from "../server/items/contract";
import { listItems } from "../server/items/list";
import { createJob } from "../server/jobs/commands";
import { startPass } from "../server/passes/commands";
import { listPasses } from "../server/passes/queries";
import { startRestore } from "../server/restores/commands";
import { listRestores, rehearsePage, rehearseSums } from "../server/restores/queries";
import { addSource } from "../server/sources/commands";
import { listSources } from "../server/sources/queries";
import { changeTray } from "../server/tray/commands";
import { manyItems } from "../tests/support/million";
import { runPass } from "../worker/run-pass";
import { runRestore } from "../worker/run-restore";

const FILES = 1000;
const BYTES = 200;
const MANY = 300_000;

/** Small files restored and read again; then the rehearsal of very many. The figures are printed as JSON. */
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
  const folder = join(sources, "small files");
  mkdirSync(folder, { recursive: true });
  for (let number = 0; number < FILES; number += 1) writeFileSync(join(folder, `${number}.txt`), String(number).padEnd(BYTES, "."));
  await migrateDatabase(url);
  const { db, pool } = open(url);
  const job = await createJob(db, { title: "Small files", client: "" });
  await addSource(db, job, folder);
  const volume = (await listSources(db, job))[0]?.volumes[0];
  const pass = await startPass(db, job, volume?.id ?? 0);
  while ((await listPasses(db, job)).find((each) => each.id === pass)?.state !== "done")
    await runPass(db, pool, pass, "bench", () => false);
  await changeTray(db, job, { everything: true, chosen: true });
  const restore = await startRestore(db, job, {
    destination: "Small",
    conflict: "keep-both",
    layout: "tree",
    streams: false,
    asFound: false,
    form: "files" as const,
    delivery: null,
    bagLimit: null,
    kinds: {},
    choices: {},
  });
  const before = performance.now();
  await runRestore(db, restore, () => false);
  const seconds = (performance.now() - before) / 1000;
  const counts = (await listRestores(db, job)).find(({ id }) => id === restore)?.counts;
  const large = await manyItems(url, MANY);
  await changeTray(db, large, { everything: true, chosen: true });
  const plan = {
    destination: "Many",
    conflict: "keep-both" as const,
    layout: "tree" as const,
    streams: false,
    asFound: false,
    form: "files" as const,
    delivery: null,
    bagLimit: null,
    kinds: {},
    choices: {},
  };
  const longest = watchLoop();
  const [page, time] = await timed(() => rehearsePage(db, large, plan));
  const [, last] = await timed(() => rehearsePage(db, large, plan, 1400));
  const [sums, summed] = await timed(() => rehearseSums(db, large, plan));
  const silence = longest();
  const [survey, surveyed] = await timed(() => runTask("survey", [large, plan]));
  // What another page asks for meanwhile: a page of the list, one after the other.
  const other = () => listItems(db, large, itemQuery.parse({ show: "all", q: "log 7", limit: 50 }));
  const quiet = await p95(other, until(40));
  const rehearsing = (async () => {
    for (let round = 0; round < 3; round += 1)
      await Promise.all([
        rehearsePage(db, large, plan),
        rehearsePage(db, large, plan, 1400),
        rehearseSums(db, large, plan),
        runTask("survey", [large, plan]),
      ]);
  })();
  const busy = await p95(other, whilePending(rehearsing));
  const [, begun] = await timed(() => startRestore(db, large, plan).catch((error: Error) => error.message));
  await pool.end();
  console.log(
    JSON.stringify({
      smallFiles: { files: counts?.verified, perSecond: Math.round(FILES / seconds) },
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

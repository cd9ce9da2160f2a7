import { randomUUID } from "node:crypto";
import { EventEmitter } from "node:events";
import { hostname } from "node:os";
import { sql } from "drizzle-orm";
import { run, type TaskList, type WorkerEvents } from "graphile-worker";
import { type Database, database, isDatabaseLost } from "../server/database/connection";
import { log } from "../server/log/logger";
import { readSettings } from "../server/settings";
import { endGivenUp } from "../server/workers/given-up";
import { beat, leave, releaseDead, sessionName } from "../server/workers/presence";
import { workToLeave } from "../server/workers/sight";
import { checkCopies } from "./check-copies";
import { gatherEqual } from "./gather-equal";
import { makeThumbnails } from "./make-thumbnails";
import { proveRestore } from "./prove-restore";
import { type FactsFrom, readFacts } from "./read-facts";
import { readWholeVolume } from "./read-volume";
import { runPass } from "./run-pass";
import { runRestore } from "./run-restore";

const CONCURRENCY = 2;
/** How often a database that is not there is asked again. Milliseconds. */
const WAIT_MS = 1_000;
/** How often a worker looks which sources it sees, where others run on other hosts. Milliseconds. */
const LEAVING_MS = 2_000;
/** What a worker ends with that lost its database: it is started again, and the work it held is freed like that of any dead worker. */
const LOST_DATABASE = 75;

/**
 * Tasks that lost the database while they ran. Whether the queue heard of their end cannot be known then: this worker ends, so that
 * nothing stays held in its name.
 */
function guarded(tasks: TaskList): TaskList {
  const entries = Object.entries(tasks).map(([name, task]) => {
    const run = async (...args: Parameters<NonNullable<typeof task>>) => {
      try {
        return await task?.(...args);
      } catch (error) {
        if (!isDatabaseLost(error)) throw error;
        log.warn({ task: name, error: (error as Error).message }, "the database was lost; this worker ends");
        process.exit(LOST_DATABASE);
      }
    };
    return [name, run];
  });
  return Object.fromEntries(entries) as TaskList;
}

/** What is worked out anew after so long only. Milliseconds. */
function kept<T>(each: number, work: () => Promise<T>): () => Promise<T> {
  let last: { at: number; value: Promise<T> } | null = null;
  return () => {
    if (last === null || Date.now() - last.at > each) last = { at: Date.now(), value: work() };
    return last.value;
  };
}

/** Waits until the database answers. */
async function untilAnswering(db: Database): Promise<void> {
  for (let said = false; ; said = true) {
    try {
      await db.execute(sql`select 1`);
      return;
    } catch (error) {
      if (!isDatabaseLost(error)) throw error;
      if (!said) log.warn({ error: (error as Error).message }, "the database does not answer; this worker waits for it");
      await new Promise((done) => setTimeout(done, WAIT_MS));
    }
  }
}

async function main(): Promise<void> {
  const me = { id: randomUUID(), host: hostname(), pid: process.pid, queueNames: [] as string[] };
  // Its connections bear its name: whoever takes its work over ends them, so that nothing stays locked by a worker that was held still.
  process.env.PGAPPNAME = sessionName(me.id);
  const { db, pool } = database();
  await untilAnswering(db);
  const events = new EventEmitter() as unknown as WorkerEvents;
  // The queue's own names of its workers, and of the pool in whose name work is held, are what a later worker needs to free the work of
  // a dead one. A name that is missing here would have live work taken for a dead worker's.
  events.on("pool:create", ({ workerPool }) => {
    me.queueNames.push(workerPool.id);
  });
  events.on("worker:create", ({ worker }) => {
    me.queueNames.push(worker.workerId);
  });
  // Others know of this worker before it asks for work: they may leave some to it.
  await beat(db, me);
  let stopping = false;
  const leaving = kept(LEAVING_MS, () => workToLeave(db, me));
  const idOf = (payload: unknown) => (payload as { id: number }).id;
  const runner = await run({
    pgPool: pool,
    concurrency: CONCURRENCY,
    pollInterval: 1000,
    noHandleSignals: true,
    events,
    // What reads a source that only another host sees is left to a worker there.
    forbiddenFlags: () => leaving(),
    taskList: guarded({
      pass: (payload) => runPass(db, pool, idOf(payload), me.id, () => stopping),
      reading: (payload) => readWholeVolume(db, idOf(payload)),
      equals: (payload) => gatherEqual(db, idOf(payload), (payload as { from?: number }).from ?? 0, () => stopping),
      facts: (payload) => readFacts(db, idOf(payload), payload as FactsFrom, () => stopping),
      thumbnails: (payload) => makeThumbnails(db, idOf(payload), () => stopping),
      check: (payload) => checkCopies(db, idOf(payload), () => stopping),
      prove: (payload) => proveRestore(db, idOf(payload), (payload as { from?: number }).from ?? 0, () => stopping),
      restore: (payload) => runRestore(db, idOf(payload), () => stopping),
    }),
  });
  await beat(db, me);
  const timer = setInterval(
    () => {
      beat(db, me)
        .then(() => releaseDead(db))
        .then((dead) => dead > 0 && log.warn({ dead }, "work of dead workers freed"))
        .then(() => endGivenUp(db))
        .then((given) => given > 0 && log.warn({ given }, "work was given up"))
        .catch((error: Error) => log.error({ error: error.message }, "the sign of life failed"));
    },
    (readSettings().COMPASS_DEAD_AFTER * 1000) / 6,
  );
  const stop = async () => {
    stopping = true;
    clearInterval(timer);
    await runner.stop().catch(() => undefined);
    await leave(db, me.id).catch(() => undefined);
    process.exit(0);
  };
  process.on("SIGTERM", stop);
  process.on("SIGINT", stop);
  log.info({ worker: me.id }, "worker ready");
  process.send?.("ready");
  await runner.promise;
}

// What the queue does beside its tasks (it notes which are done) loses the database too, where nobody waits for it.
process.on("unhandledRejection", (error) => {
  const lost = isDatabaseLost(error);
  if (lost) log.warn({ error: (error as Error).message }, "the database was lost; this worker ends");
  else log.fatal({ error: (error as Error).stack ?? String(error) }, "this should not have happened; the worker ends");
  process.exit(lost ? LOST_DATABASE : 1);
});
// Who started this process has died: nobody could end it any more.
process.on("disconnect", () => process.kill(process.pid, "SIGTERM"));
main().catch((error: Error) => {
  if (isDatabaseLost(error)) {
    log.warn({ error: error.message }, "the database does not answer; this worker ends");
    process.exit(LOST_DATABASE);
  }
  log.fatal({ error: error.stack }, "the worker could not start");
  process.exit(1);
});

import type pg from "pg";
import { passKind } from "../core/copies/pass-kinds";
import { pickSourceAt } from "../io/open-source";
import { isNotSeen } from "../io/source-error";
import { type Database, isDatabaseLost } from "../server/database/connection";
import { log } from "../server/log/logger";
import { commitBatch } from "../server/passes/batches";
import { claimPass, declinePass, endAtOnce, failPass, isWanted } from "../server/passes/life";
import { readSettings } from "../server/settings";
import { GATE } from "./pass-gate";
import type { PassThreadBatch, PassThreadData } from "./pass-thread";
import { startThread, toThreadFailure } from "./thread";

/** A slice of a pass ends after this long at least and goes on as a new piece of work, on whichever worker is free. */
const SLICE_MS = 20_000;

/** How often a pass is asked whether it is to go on, and how long its reader may then take to come to the end of a batch. Milliseconds. */
const ASK_MS = 300;
const PATIENCE_MS = 1_200;

/** Works on a pass until it ends, is paused or stopped, or its slice of time is over. */
export async function runPass(db: Database, pool: pg.Pool, passId: number, workerId: string, stopping: () => boolean): Promise<void> {
  const pass = await claimPass(db, passId, workerId);
  if (!pass) return;
  const gate = new SharedArrayBuffer(8);
  const data: PassThreadData = {
    ...pickSourceAt(pass),
    rules: pass.rules,
    swept: pass.swept,
    threads: readSettings().COMPASS_SWEEP_THREADS,
    volume: pass.volume,
    place: pass.place,
    options: pass.options,
    timeZone: pass.timeZone,
    resume: pass.resume,
    until: pass.finish ?? 0,
    noted: pass.noted,
    batch: readSettings().COMPASS_BATCH,
    gate,
  };
  let enough = pass.finish !== null;
  const state = new Int32Array(gate);
  if (enough) Atomics.store(state, GATE.enough, 1);
  const thread = startThread("pass-thread", data);
  const sliced = !passKind(pass.place).inOneGo;
  const begun = Date.now();
  let sliceEnd = Number.POSITIVE_INFINITY;
  let since = Date.now();
  // A reader that is in the midst of something long must not keep a pass from being stopped.
  let asked: number | null = null;
  let endedAtOnce = false;
  const watch = setInterval(() => {
    if (enough) return;
    isWanted(db, pass)
      .then(async (wanted) => {
        if (wanted !== false) asked = null;
        else if (asked === null) asked = Date.now();
        else if (Date.now() - asked > PATIENCE_MS && !endedAtOnce) {
          endedAtOnce = true;
          void thread.terminate();
          // A read a failing drive does not answer cannot be ended: the pass is shown as it is without waiting for it.
          await endAtOnce(db, pass);
        }
      })
      .catch(() => undefined);
  }, ASK_MS);
  try {
    for await (const batch of batches(thread)) {
      // What must be read before the first batch is read again by each slice: a large volume gets longer ones.
      if (sliced && sliceEnd === Number.POSITIVE_INFINITY) sliceEnd = Date.now() + Math.max(SLICE_MS, 10 * (Date.now() - begun));
      const event = batch.end
        ? enough && batch.done < batch.total
          ? "given out"
          : "end"
        : !enough && (stopping() || (Date.now() > sliceEnd && !batch.inMidst))
          ? "slice"
          : "batch";
      const after = await commitBatch(pool, pass, { ...batch, finishing: enough, ms: Date.now() - since }, event);
      since = Date.now();
      asked = null;
      // What a sweep has in hand is found already: when it is stopped, that is given out before it ends.
      enough ||= after === "finish";
      const goesOn = after === "finish" || (after === "go on" && event === "batch");
      if (batch.end || !goesOn) {
        log.info(
          { pass: passId, worker: workerId, done: batch.done, total: batch.total, ms: Date.now() - begun },
          batch.end ? "pass ends" : "slice of a pass ends",
        );
        return;
      }
      if (enough) Atomics.store(state, GATE.enough, 1);
      Atomics.add(state, GATE.taken, 1);
      Atomics.notify(state, GATE.taken);
    }
  } catch (error) {
    if (endedAtOnce) return await endAtOnce(db, pass);
    // What was stored is stored, and the rest is read again: nothing failed but the database.
    if (isDatabaseLost(error)) throw error;
    if (isNotSeen(error)) return await declinePass(db, pass, workerId, (error as Error).message);
    log.error({ pass: passId, error: (error as Error).stack }, "pass failed");
    await failPass(db, pass, (error as Error).message);
  } finally {
    clearInterval(watch);
    await thread.terminate();
  }
}

/** The batches a thread sends, one after the other. Ends with the thread's error when it has one. */
async function* batches(thread: ReturnType<typeof startThread>): AsyncGenerator<PassThreadBatch> {
  const waiting: PassThreadBatch[] = [];
  let failure: Error | undefined;
  let ended = false;
  let wake: () => void = () => undefined;
  thread.on("message", (batch: PassThreadBatch) => {
    waiting.push(batch);
    wake();
  });
  thread.on("error", (error) => {
    failure = toThreadFailure(error);
    wake();
  });
  thread.on("exit", () => {
    ended = true;
    wake();
  });
  for (;;) {
    const batch = waiting.shift();
    if (batch) {
      yield batch;
      if (batch.end) return;
      continue;
    }
    if (failure) throw failure;
    if (ended) throw new Error("The reading thread ended before the pass did.");
    await new Promise<void>((resolve) => {
      wake = resolve;
      if (waiting.length > 0 || failure || ended) resolve();
    });
  }
}

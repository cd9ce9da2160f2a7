import type { Worker } from "node:worker_threads";
import type { Layout } from "../core/bytes/layout";
import { hasGaps } from "../core/restore/gaps";
import { repairedName } from "../core/restore/names";
import { takenFor } from "../core/restore/wishes";
import { describeWriteError, type WritingStop } from "../io/system-errors";
import { runTask } from "../server/content/pool";
import { type Database, isDatabaseLost } from "../server/database/connection";
import { log } from "../server/log/logger";
import { bagsOf, listBeside } from "../server/restores/closing";
import { guardedOf } from "../server/restores/guards";
import {
  type ClaimedRestore,
  claimRestore,
  failRestore,
  finishRestore,
  givenNames,
  leaveOutRest,
  pauseRestore,
  type Settled,
  settle,
  WAIT_MS,
  wishOf,
} from "../server/restores/slice";
import { nextFiles, type RestoreWork } from "../server/restores/works";
import { noteUnreadable } from "../server/sources/unreadable";
import { enqueue } from "../server/workers/queue";
import type { Failed, PublishedFile, Ready, Refused, RestoreRequest, StagedFile, Staging } from "./restore-thread";
import { askThread, startThread } from "./thread";

/** Small files are written some at a time, so that noting how far they are does not take longer than writing them. */
const MOST_TOGETHER = 64;
const MOST_BYTES = 32 << 20;
/** Names tried for one file that others take meanwhile. */
const MOST_TRIES = 20;

/** Nothing may be written to the destination any more; the message says why. */
class RestoreRefused extends Error {
  constructor(
    problem: string,
    /** Set where it can be written again later. */
    readonly stop: WritingStop | null,
  ) {
    super(problem);
  }
}

/**
 * Writes the files of a restore, some at a time. Before a file gets its name, the name and the hash of what was written are stored: a
 * worker that goes on after a crash knows its own file by them and does not write it twice.
 */
export async function runRestore(db: Database, restoreId: number, stopping: () => boolean): Promise<void> {
  const restore = await claimRestore(db, restoreId);
  if (restore === "waits") return enqueue(db, "restore", restoreId, {}, WAIT_MS);
  if (!restore) return;
  const thread = startThread("restore-thread", null);
  try {
    const guarded = await guardedOf(db, restore.jobId);
    await ask(thread, { ask: "open", to: restore, mark: restore.mark, guarded });
    await writeAll(db, restore, thread, stopping);
    await ask(thread, { ask: "close" });
  } catch (error) {
    await ask(thread, { ask: "close" }).catch(() => undefined);
    if (isDatabaseLost(error)) throw error;
    const { stop } = error as Partial<RestoreRefused>;
    if (stop) return pauseRestore(db, restore, { problem: pausedBecause(stop, (error as Error).message), waits: stop === "gone" });
    if (!(error instanceof RestoreRefused)) log.error({ restore: restoreId, error: (error as Error).stack }, "restore failed");
    await failRestore(db, restore, describeWriteError(error));
  } finally {
    await thread.terminate();
  }
}

async function writeAll(db: Database, restore: ClaimedRestore, thread: Worker, stopping: () => boolean): Promise<void> {
  let given = await givenNames(db, restore);
  for (;;) {
    const wish = await wishOf(db, restore);
    if (wish === null || (wish === "stop" && !(await leaveOutRest(db, restore)))) return;
    if (wish === "pause") return pauseRestore(db, restore, null);
    const files = await nextFiles(db, restore, MOST_TOGETHER, MOST_BYTES);
    if (files.length === 0) {
      await closeUp(db, restore, thread);
      return finishRestore(db, restore);
    }
    const refused = files.flatMap((file): Settled[] =>
      "problem" in file ? [{ id: file.resultId, state: "failed", problem: file.problem }] : [],
    );
    const works = files.flatMap((file) => ("problem" in file ? [] : [file]));
    if (!(await settle(db, restore, refused)) || !(await writeFiles(db, restore, works, given, thread))) return;
    given = [];
    if (stopping()) return enqueue(db, "restore", restore.id);
  }
}

/** Puts the list beside the files of a restore, or closes its packages. */
async function closeUp(db: Database, restore: ClaimedRestore, thread: Worker): Promise<void> {
  const guarded = await guardedOf(db, restore.jobId);
  if (restore.form === "bag") for (const bag of await bagsOf(db, restore)) await ask(thread, { ask: "bag", guarded, ...bag });
  else {
    const list = await listBeside(db, restore);
    if (list) await ask(thread, { ask: "list", guarded, ...list });
  }
}

const pausedBecause = (stop: WritingStop, problem: string): string =>
  stop === "gone" ? `${problem} This restore goes on by itself when it is back.` : problem;

/** @returns false when another worker has taken the restore over */
async function writeFiles(
  db: Database,
  restore: ClaimedRestore,
  works: readonly RestoreWork[],
  given: readonly string[],
  thread: Worker,
): Promise<boolean> {
  const { asFound } = restore;
  let refused: Failed | null = null;
  const plans = new Map<number, RepairPlanned>();
  // A source may have been added since the last files were written.
  const guarded = await guardedOf(db, restore.jobId);
  const stage = async (files: readonly RestoreWork[], names: readonly string[]) => {
    const staging = await ask<Staging>(thread, {
      ask: "stage",
      asFound,
      guarded,
      works: files.map((work) => ({ ...work, workingName: `${work.resultId}`, ...plans.get(work.resultId) })),
      given: names,
    });
    for (const [sourceId, ranges] of staging.bad) await db.transaction((tx) => noteUnreadable(tx, sourceId, ranges));
    return staging.files;
  };
  /** Settles what needs no name any more. @returns what is ready to get one; null: the restore was taken over */
  const sort = async (files: readonly RestoreWork[], found: readonly StagedFile[]) => {
    const settled: Settled[] = [];
    let stopped: Failed | null = null;
    const ready: { work: RestoreWork; file: Ready }[] = [];
    found.forEach((file, index) => {
      const work = files[index] as RestoreWork;
      const id = work.resultId;
      if ("problem" in file && file.stop) stopped = file;
      else if ("problem" in file) settled.push({ id, state: "failed", problem: file.problem });
      else if ("skipped" in file) settled.push({ id, state: "skipped", problem: ALREADY_THERE });
      else if ("named" in file)
        settled.push({
          id,
          state: file.named.gaps ? "gaps" : "verified",
          ...file.named,
          leftBehind: orNone(file.named.leftBehind),
          ...madeOf(plans.get(id)),
        });
      else if ("same" in file) {
        const leftBehind = orNone(file.same.leftBehind);
        settled.push({ id, state: "same", ...file.same, leftBehind, ...madeOf(plans.get(id)), problem: SAME_THERE });
      } else ready.push({ work, file });
    });
    if (!(await settle(db, restore, settled))) return null;
    // What was written is given its name first; the others wait.
    refused ??= stopped;
    return ready;
  };
  const worth = await withoutUnrepaired(db, restore, works, plans);
  if (!worth) return false;
  let ready = await sort(worth, await stage(worth, given));
  try {
    for (let tries = 0; ready && ready.length > 0 && tries < MOST_TRIES; tries += 1) {
      const facts = ready.map(({ work, file }) => ({
        id: work.resultId,
        output: file.output,
        sha256: file.staged.sha256,
        fromDevice: file.staged.fromDevice,
        gaps: hasGaps(file.gaps) ? file.gaps : null,
        leftBehind: orNone(file.leftBehind),
        ...madeOf(plans.get(work.resultId)),
      }));
      const writing = facts.map((fact): Settled => ({ ...fact, state: "writing" }));
      if (!(await settle(db, restore, writing))) return false;
      const done = await ask<PublishedFile[]>(thread, {
        ask: "publish",
        guarded,
        files: ready.map(({ work, file }) => ({ staged: file.staged, name: file.name, conflict: takenFor(work.conflict) })),
      });
      const named: Settled[] = [];
      const again: RestoreWork[] = [];
      for (const [index, file] of done.entries()) {
        const [fact, { work }] = [facts[index] as (typeof facts)[number], ready[index] as (typeof ready)[number]];
        if ("problem" in file && file.stop) {
          refused ??= file;
          named.push({ id: fact.id, state: "waiting" });
        } else if ("problem" in file) named.push({ id: fact.id, state: "failed", problem: file.problem });
        else if (file.published) named.push({ ...fact, state: fact.gaps ? "gaps" : "verified", ...file.published });
        // Somebody took the name since it was looked at.
        else if (work.conflict === "skip") named.push({ id: fact.id, state: "skipped", problem: ALREADY_THERE });
        else again.push(work);
      }
      if (!(await settle(db, restore, named))) return false;
      ready =
        again.length === 0
          ? []
          : await sort(
              again.map((work) => ({ ...work, begun: null })),
              await stage(
                again.map((work) => ({ ...work, begun: null })),
                [],
              ),
            );
    }
    if (!ready) return false;
    if (refused) throw new RestoreRefused((refused as Failed).problem, (refused as Failed).stop);
    const left = ready.map(
      ({ work }): Settled => ({ id: work.resultId, state: "failed", problem: "No free name was found at the destination." }),
    );
    return await settle(db, restore, left);
  } finally {
    const staged = (ready ?? []).map(({ file }) => file.staged);
    if (staged.length > 0) await ask(thread, { ask: "discard", files: staged }).catch(() => undefined);
  }
}

/** How a file is written repaired. */
interface RepairPlanned {
  readonly repaired: Layout;
  readonly words: string;
}

/** What is only known of a file once it is repaired: how that was done, and its bytes. */
const madeOf = (plan: RepairPlanned | undefined): Pick<Settled, "problem" | "size"> =>
  plan ? { problem: plan.words, size: plan.repaired.size } : {};

/** Works out how files are repaired, and settles those that cannot be. @returns those that are written; null: the restore was taken over */
async function withoutUnrepaired(
  db: Database,
  restore: ClaimedRestore,
  works: readonly RestoreWork[],
  plans: Map<number, RepairPlanned>,
): Promise<RestoreWork[] | null> {
  const settled: Settled[] = [];
  const worth: RestoreWork[] = [];
  for (const work of works) {
    const { resultId, repairOf, components } = work;
    if (repairOf === null) {
      worth.push(work);
      continue;
    }
    const plan = await runTask("planRepair", [repairOf.copyId]).catch((error: Error) =>
      isDatabaseLost(error) ? Promise.reject(error) : error.message,
    );
    if (plan && typeof plan === "object") {
      plans.set(resultId, { repaired: plan.layout, words: plan.words });
      worth.push({ ...work, components: [...components.slice(0, -1), repairedName(repairOf.name, plan.unpacked)] });
    } else settled.push({ id: resultId, state: "skipped", problem: plan ?? "Nothing in it can be repaired here." });
  }
  return (await settle(db, restore, settled)) ? worth : null;
}

const orNone = <T>(list: readonly T[]): readonly T[] | null => (list.length > 0 ? list : null);

const SAME_THERE = "It was there already, byte for byte, and was left as it is.";
const ALREADY_THERE = "A file of this name is already there; it was left as it is.";

/** @throws RestoreRefused when nothing may be written there any more */
async function ask<T>(thread: Worker, request: RestoreRequest): Promise<T> {
  const answer = await askThread<T | Refused | null>(thread, request);
  if (answer && typeof answer === "object" && "refused" in answer) throw new RestoreRefused(answer.refused, answer.stop);
  return answer as T;
}

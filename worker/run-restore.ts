import { once } from "node:events";
import { mkdirSync, rmSync } from "node:fs";
import type { Worker } from "node:worker_threads";
import { hasGaps } from "../core/restore/gaps";
import { workingName } from "../io/deliver";
import type { Database } from "../server/database/connection";
import {
  type ClaimedRestore,
  claimRestore,
  failRestore,
  finishRestore,
  givenNames,
  nextFiles,
  type RestoreWork,
  type Settled,
  settle,
} from "../server/restores/slice";
import { noteUnreadable } from "../server/sources/unreadable";
import { enqueue } from "../server/workers/queue";
import type { PublishedFile, RestoreRequest, StagedFile, Staging } from "./restore-thread";
import { startThread } from "./thread";

/** Small files are written some at a time, so that noting how far they are does not take longer than writing them. */
const MOST_TOGETHER = 64;
const MOST_BYTES = 32 << 20;
/** Names tried for one file that others take meanwhile. */
const MOST_TRIES = 20;

/**
 * Writes the files of a restore, some at a time. Before a file gets its name, the name and the hash of what was written are stored: a
 * worker that goes on after a crash knows its own file by them and does not write it twice.
 */
export async function runRestore(db: Database, restoreId: number, stopping: () => boolean): Promise<void> {
  const restore = await claimRestore(db, restoreId);
  if (!restore) return;
  try {
    mkdirSync(restore.targets.root, { recursive: true });
  } catch (error) {
    return failRestore(
      db,
      restore,
      `The folder “${restore.targets.root}” cannot be made (${(error as Error).message}). See that its device can be written to, and try again.`,
    );
  }
  const thread = startThread("restore-thread", null);
  let given = await givenNames(db, restore);
  try {
    for (;;) {
      const files = await nextFiles(db, restore, MOST_TOGETHER, MOST_BYTES);
      if (files.length === 0) break;
      const refused = files.flatMap((file): Settled[] =>
        "problem" in file ? [{ id: file.resultId, state: "failed", problem: file.problem }] : [],
      );
      const works = files.flatMap((file) => ("problem" in file ? [] : [file]));
      if (!(await settle(db, restore, refused)) || !(await writeFiles(db, restore, works, given, thread))) return;
      given = [];
      if (stopping()) return await enqueue(db, "restore", restoreId);
    }
    await finishRestore(db, restore);
  } finally {
    await thread.terminate();
  }
}

/** @returns false when another worker has taken the restore over */
async function writeFiles(
  db: Database,
  restore: ClaimedRestore,
  works: readonly RestoreWork[],
  given: readonly string[],
  thread: Worker,
): Promise<boolean> {
  const { files: found, bad } = await ask<Staging>(thread, {
    ask: "stage",
    root: restore.targets.root,
    asFound: restore.asFound,
    works: works.map((work) => ({ ...work, workingName: workingName(`${restore.id}-${work.resultId}`) })),
    given,
  });
  for (const [sourceId, ranges] of bad) await db.transaction((tx) => noteUnreadable(tx, sourceId, ranges));
  const settled: Settled[] = [];
  let ready: { work: RestoreWork; file: Extract<StagedFile, { staged: unknown }> }[] = [];
  found.forEach((file, index) => {
    const work = works[index] as RestoreWork;
    const id = work.resultId;
    if ("problem" in file) settled.push({ id, state: "failed", problem: file.problem });
    else if ("skipped" in file)
      settled.push({ id, state: "skipped", problem: "A file of this name is already there; it was left as it is." });
    else if ("named" in file) settled.push({ id, state: file.named.gaps ? "gaps" : "verified", ...file.named });
    else ready.push({ work, file });
  });
  if (!(await settle(db, restore, settled))) return false;
  try {
    for (let tries = 0; ready.length > 0 && tries < MOST_TRIES; tries += 1) {
      const facts = ready.map(({ work, file }) => ({
        id: work.resultId,
        output: file.target,
        sha256: file.staged.sha256,
        gaps: hasGaps(file.gaps) ? file.gaps : null,
      }));
      if (
        !(await settle(
          db,
          restore,
          facts.map((fact): Settled => ({ ...fact, state: "writing" })),
        ))
      )
        return false;
      const done = await ask<PublishedFile[]>(thread, {
        ask: "publish",
        files: ready.map(({ work, file }) => ({ staged: file.staged, target: file.target, conflict: work.conflict })),
      });
      const named: Settled[] = [];
      const again: typeof ready = [];
      done.forEach((file, index) => {
        const [fact, one] = [facts[index] as (typeof facts)[number], ready[index] as (typeof ready)[number]];
        if ("problem" in file) named.push({ id: fact.id, state: "failed", problem: file.problem });
        else if (file.published) named.push({ ...fact, state: fact.gaps ? "gaps" : "verified", ...file.published });
        // Somebody took the name since it was looked at.
        else if (one.work.conflict === "skip")
          named.push({ id: fact.id, state: "skipped", problem: "A file of this name is already there; it was left as it is." });
        else again.push(one);
      });
      if (!(await settle(db, restore, named))) return false;
      if (again.length === 0) ready = [];
      else {
        const { files: moved } = await ask<Staging>(thread, {
          ask: "stage",
          root: restore.targets.root,
          asFound: restore.asFound,
          works: again.map(({ work }) => ({ ...work, begun: null, workingName: workingName(`${restore.id}-${work.resultId}`) })),
          given: [],
        });
        const next: typeof ready = [];
        const failed: Settled[] = [];
        moved.forEach((file, index) => {
          const { work } = again[index] as (typeof again)[number];
          if ("staged" in file) next.push({ work, file });
          else if ("problem" in file) failed.push({ id: work.resultId, state: "failed", problem: file.problem });
        });
        if (!(await settle(db, restore, failed))) return false;
        ready = next;
      }
    }
    return await settle(
      db,
      restore,
      ready.map(({ work }): Settled => ({ id: work.resultId, state: "failed", problem: "No free name was found at the destination." })),
    );
  } finally {
    for (const file of found) if ("staged" in file) rmSync(file.staged.working, { force: true });
  }
}

async function ask<T>(thread: Worker, request: RestoreRequest): Promise<T> {
  thread.postMessage(request);
  const [answer] = (await once(thread, "message")) as [T];
  return answer;
}

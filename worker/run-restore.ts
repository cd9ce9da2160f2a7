import { once } from "node:events";
import { existsSync, mkdirSync } from "node:fs";
import type { Worker } from "node:worker_threads";
import { hashFile, isTaken, targets, workingName } from "../io/deliver";
import type { Database } from "../server/database/connection";
import { type ClaimedRestore, claimRestore, finishRestore, nextFile, type RestoreWork, settle } from "../server/restores/slice";
import { enqueue } from "../server/workers/queue";
import type { RestoreAnswer, RestoreRequest } from "./restore-thread";
import { startThread } from "./thread";

/**
 * Writes the files of a restore one after the other. Before a file gets its name, the name and the hash of what was
 * written are stored: a worker that goes on after a crash knows its own file by them and does not write it twice.
 */
export async function runRestore(db: Database, restoreId: number, stopping: () => boolean): Promise<void> {
  const restore = await claimRestore(db, restoreId);
  if (!restore) return;
  mkdirSync(restore.root, { recursive: true });
  const thread = startThread("restore-thread", null);
  try {
    for (let work = await nextFile(db, restore); work; work = await nextFile(db, restore)) {
      if (!(await writeFile(db, restore, work, thread))) return;
      if (stopping()) return await enqueue(db, "restore", restoreId);
    }
    await finishRestore(db, restore);
  } finally {
    await thread.terminate();
  }
}

/** @returns false when another worker has taken the restore over */
async function writeFile(db: Database, restore: ClaimedRestore, work: RestoreWork, thread: Worker): Promise<boolean> {
  const { resultId, begun } = work;
  if (begun && existsSync(begun.output) && hashFile(begun.output) === begun.sha256) {
    return settle(db, restore, resultId, { state: "verified", problem: null });
  }
  if (work.conflict === "skip" && isTaken(restore.root, work.components)) {
    return settle(db, restore, resultId, { state: "skipped", problem: "A file of this name is already there; it was left as it is." });
  }
  const staged = await ask(thread, {
    ask: "stage",
    sourcePath: work.sourcePath,
    beside: work.beside,
    file: work.file,
    layout: work.layout,
    root: restore.root,
    components: work.components,
    workingName: workingName(`${restore.id}-${resultId}`),
    modified: work.modified,
  });
  if ("problem" in staged) return settle(db, restore, resultId, { state: "failed", problem: staged.problem });
  if (!("staged" in staged)) return true;
  const unreadable = staged.unreadable > 0 ? `${staged.unreadable} of its bytes could not be read and are zeros.` : null;
  for (const target of targets(staged.staged, work.conflict)) {
    // Looking first spares a write to the database for each taken name; the link below decides.
    if (work.conflict === "keep-both" && existsSync(target)) continue;
    if (!(await settle(db, restore, resultId, { state: "writing", output: target, sha256: staged.staged.sha256 }))) return false;
    const done = await ask(thread, { ask: "publish", staged: staged.staged, target, conflict: work.conflict });
    if ("problem" in done) return settle(db, restore, resultId, { state: "failed", output: null, sha256: null, problem: done.problem });
    if ("published" in done && done.published) return settle(db, restore, resultId, { state: "verified", problem: unreadable });
  }
  return settle(db, restore, resultId, {
    state: "failed",
    output: null,
    sha256: null,
    problem: "No free name was found at the destination.",
  });
}

async function ask(thread: Worker, request: RestoreRequest): Promise<RestoreAnswer> {
  thread.postMessage(request);
  const [answer] = (await once(thread, "message")) as [RestoreAnswer];
  return answer;
}

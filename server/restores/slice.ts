import { and, asc, eq, inArray, sql } from "drizzle-orm";
import { EMPTY_LAYOUT, type Layout } from "../../core/bytes/layout";
import { decodeLayout } from "../../core/bytes/layout-code";
import { streamFileName } from "../../core/restore/names";
import type { Database } from "../database/connection";
import { restoreResults, restores } from "../database/schema";
import { note } from "../log/commands";
import { missingDrive } from "../sources/drives";
import { announce } from "../workers/queue";
import { destinationRoot } from "./delivery";
import { componentsOf, refusalFor, type StoredStream } from "./queries";

export interface ClaimedRestore {
  readonly id: number;
  readonly jobId: number;
  readonly epoch: number;
  readonly root: string;
  readonly conflict: "keep-both" | "replace" | "skip";
}

/** One file to write. */
export interface RestoreWork {
  readonly resultId: number;
  readonly sourcePath: string;
  readonly beside: readonly string[];
  readonly file: string | null;
  readonly layout: Layout;
  readonly components: readonly string[];
  readonly modified: number | null;
  readonly conflict: ClaimedRestore["conflict"];
  /** Set when an earlier worker was about to give the file its name: the name, and the hash of what it had written. */
  readonly begun: { readonly output: string; readonly sha256: string } | null;
}

/** Takes a restore for this worker. @returns null when it is finished, refused or gone */
export async function claimRestore(db: Database, restoreId: number): Promise<ClaimedRestore | null> {
  const [row] = await db
    .update(restores)
    .set({ state: "running", epoch: sql`${restores.epoch} + 1` })
    .where(and(eq(restores.id, restoreId), inArray(restores.state, ["queued", "running"])))
    .returning();
  if (!row) return null;
  const root = destinationRoot(row.destination);
  const refused = await refusalFor(db, row.jobId, root);
  if (refused) {
    await db.update(restores).set({ state: "failed", problem: refused, finishedAt: new Date() }).where(eq(restores.id, restoreId));
    await announce(db, row.jobId);
    return null;
  }
  return { id: row.id, jobId: row.jobId, epoch: row.epoch, root, conflict: row.conflict };
}

/** The next file that is not settled, or null. */
export async function nextFile(db: Database, restore: ClaimedRestore): Promise<RestoreWork | null> {
  const [result] = await db
    .select()
    .from(restoreResults)
    .where(and(eq(restoreResults.restoreId, restore.id), inArray(restoreResults.state, ["waiting", "writing"])))
    .orderBy(asc(restoreResults.id))
    .limit(1);
  if (!result) return null;
  const { rows } = await db.execute<{
    name: string;
    folder: string;
    layout: Buffer | null;
    path: string;
    beside: string[];
    file: string | null;
    volume_label: string | null;
    number: number;
    modified: string | null;
    container: string;
    source_size: string;
    streams: StoredStream[] | null;
  }>(sql`
    select c.name, f.path as folder, c.layout, c.streams, c.file, s.path, s.beside, s.container, s.size as source_size, v.label as volume_label, v.number, c.modified
    from copies c join folders f on f.id = c.folder_id join volumes v on v.id = c.volume_id join sources s on s.id = v.source_id
    where c.id = ${result.copyId}`);
  const [copy] = rows;
  if (!copy) {
    await settle(db, restore, result.id, { state: "failed", problem: "The copy is no longer known." });
    return nextFile(db, restore);
  }
  const missing = missingDrive({ container: copy.container, path: copy.path, size: Number(copy.source_size) });
  if (missing) {
    await settle(db, restore, result.id, { state: "failed", problem: missing });
    return nextFile(db, restore);
  }
  const stream = result.stream === null ? null : copy.streams?.[result.stream];
  if (stream === undefined) {
    await settle(db, restore, result.id, { state: "failed", problem: "The stream is no longer known." });
    return nextFile(db, restore);
  }
  const layout = stream ? stream.layout && Buffer.from(stream.layout, "base64") : copy.layout;
  return {
    resultId: result.id,
    sourcePath: copy.path,
    beside: copy.beside,
    file: copy.file,
    layout: layout ? decodeLayout(layout) : EMPTY_LAYOUT,
    components: componentsOf(stream ? { ...copy, name: streamFileName(copy.name, stream.name) } : copy),
    modified: copy.modified ? new Date(copy.modified).getTime() : null,
    conflict: result.conflict ?? restore.conflict,
    begun: result.state === "writing" && result.output && result.sha256 ? { output: result.output, sha256: result.sha256 } : null,
  };
}

type Settled = Partial<Pick<typeof restoreResults.$inferInsert, "state" | "output" | "sha256" | "problem">>;

/** Writes down how far one file is. @returns false when another worker has taken the restore over */
export async function settle(db: Database, restore: ClaimedRestore, resultId: number, values: Settled): Promise<boolean> {
  return db.transaction(async (tx) => {
    const [held] = await tx.select({ epoch: restores.epoch }).from(restores).where(eq(restores.id, restore.id)).for("update");
    if (held?.epoch !== restore.epoch) return false;
    const finished = values.state !== "writing" ? { finishedAt: new Date() } : {};
    await tx
      .update(restoreResults)
      .set({ ...values, ...finished })
      .where(eq(restoreResults.id, resultId));
    await announce(tx, restore.jobId);
    return true;
  });
}

export async function finishRestore(db: Database, restore: ClaimedRestore): Promise<void> {
  await db.transaction(async (tx) => {
    await tx
      .update(restores)
      .set({ state: "done", finishedAt: new Date() })
      .where(and(eq(restores.id, restore.id), eq(restores.epoch, restore.epoch)));
    await note(tx, restore.jobId, "Restore finished", { restore: restore.id });
    await announce(tx, restore.jobId);
  });
}

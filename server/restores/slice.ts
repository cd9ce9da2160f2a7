import { and, eq, inArray, ne, or, sql } from "drizzle-orm";
import { decodeLayout } from "../../core/bytes/layout-code";
import { conditionOf, type Evidence, explain } from "../../core/copies/copy";
import { bytesIn, type Gaps } from "../../core/restore/gaps";
import type { Conflict, RestoreForm } from "../../core/restore/wishes";
import { isBack } from "../../io/deliver";
import type { Connection, Database } from "../database/connection";
import { type RestoreWish, type ResultState, restoreResults, restores } from "../database/schema";
import { keepJudgement } from "../items/check";
import { note } from "../log/commands";
import { announce, enqueue } from "../workers/queue";
import { destinationRoot } from "./delivery";
import { refusalFor } from "./guards";
import { type Targets, targetsFor } from "./targets";

export interface ClaimedRestore {
  readonly id: number;
  readonly jobId: number;
  readonly epoch: number;
  readonly conflict: Conflict;
  readonly form: RestoreForm;
  readonly asFound: boolean;
  readonly destination: string;
  readonly delivery: string | null;
  /** Tells the working folder of this restore from those of others, of other benches too. */
  readonly mark: string;
  readonly targets: Targets;
}

/** How long a restore waits before it asks again whether another one into the same folder has ended. Milliseconds. */
export const WAIT_MS = 2_000;
/** The number under which workers take restores one after the other. */
const CLAIMING = 7_240_115;

/**
 * Takes a restore for this worker.
 * @returns null when it is finished, refused or gone; "waits" when another one that writes to the same folder must end first
 */
export async function claimRestore(db: Database, restoreId: number): Promise<ClaimedRestore | "waits" | null> {
  const row = await db.transaction(async (tx) => {
    await tx.execute(sql`select pg_advisory_xact_lock(${CLAIMING})`);
    const { rows } = await tx.execute(sql`
      select 1 from restores r join restores o on o.id <> r.id and o.state = 'running' and o.delivery is not distinct from r.delivery
        and (starts_with(lower(o.destination) || '/', lower(r.destination) || '/') or starts_with(lower(r.destination) || '/', lower(o.destination) || '/'))
      where r.id = ${restoreId} and r.state = 'queued' limit 1`);
    if (rows.length > 0) return "waits" as const;
    const [one] = await tx.select().from(restores).where(eq(restores.id, restoreId)).for("update");
    if (one?.waits && !isBack(destinationRoot(one), markOf(one))) return "waits" as const;
    const [taken] = await tx
      .update(restores)
      .set({ state: "running", waits: false, problem: null, epoch: sql`${restores.epoch} + 1` })
      .where(and(eq(restores.id, restoreId), or(inArray(restores.state, ["queued", "running"]), eq(restores.waits, true))))
      .returning();
    return taken ?? null;
  });
  if (row === null || row === "waits") return row;
  const targets = await targetsFor(db, row.jobId, row, row.id);
  const refused = await refusalFor(db, row.jobId, targets.root);
  if (refused) {
    await failRestore(db, row, refused);
    return null;
  }
  const { id, jobId, epoch, conflict, form, asFound, destination, delivery } = row;
  return { id, jobId, epoch, conflict, form, asFound, destination, delivery, mark: markOf(row), targets };
}

const markOf = ({ id, createdAt }: { id: number; createdAt: Date }): string => `${id}-${createdAt.getTime().toString(36)}`;

/** What a restore was asked to do by now; null: another worker has taken it over. */
export async function wishOf(db: Database, restore: ClaimedRestore): Promise<RestoreWish | null> {
  const [row] = await db.select({ wanted: restores.wanted, epoch: restores.epoch }).from(restores).where(eq(restores.id, restore.id));
  return row?.epoch === restore.epoch ? row.wanted : null;
}

/** Pauses a restore that was asked to, or cannot go on for now. What is not written waits. @param stop why; null: it was asked to */
export async function pauseRestore(
  db: Database,
  restore: ClaimedRestore,
  stop: { readonly problem: string; readonly waits: boolean } | null,
): Promise<void> {
  await db.transaction(async (tx) => {
    const held = await tx
      .update(restores)
      .set({ state: "paused", wanted: "run", problem: stop?.problem ?? null, waits: stop?.waits ?? false })
      .where(and(eq(restores.id, restore.id), eq(restores.epoch, restore.epoch)))
      .returning({ id: restores.id });
    if (held.length === 0) return;
    if (stop?.waits) await enqueue(tx, "restore", restore.id, {}, WAIT_MS);
    await note(tx, restore.jobId, "Restore paused", { restore: restore.id, problem: stop?.problem ?? null });
    await announce(tx, restore.jobId);
  });
}

/** Leaves out what of a restore is not written, because it was stopped. @returns false when another worker has taken it over */
export async function leaveOutRest(db: Database, restore: ClaimedRestore): Promise<boolean> {
  return db.transaction(async (tx) => {
    const [held] = await tx.select({ epoch: restores.epoch }).from(restores).where(eq(restores.id, restore.id)).for("update");
    if (held?.epoch !== restore.epoch) return false;
    await tx
      .update(restoreResults)
      .set({ state: "skipped", output: null, sha256: null, gaps: null, problem: "The restore was stopped before this file was written." })
      .where(and(eq(restoreResults.restoreId, restore.id), inArray(restoreResults.state, ["waiting", "writing"])));
    return true;
  });
}

/** Ends a restore that cannot go on; its files wait for another try. */
export async function failRestore(db: Database, restore: { id: number; jobId: number; epoch: number }, problem: string): Promise<void> {
  await db.transaction(async (tx) => {
    const held = await tx
      .update(restores)
      .set({ state: "failed", problem, finishedAt: new Date() })
      .where(and(eq(restores.id, restore.id), eq(restores.epoch, restore.epoch)))
      .returning({ id: restores.id });
    if (held.length === 0) return;
    await tx
      .update(restoreResults)
      .set({ state: "failed", problem })
      .where(and(eq(restoreResults.restoreId, restore.id), inArray(restoreResults.state, ["waiting", "writing"])));
    await note(tx, restore.jobId, "Restore failed", { restore: restore.id, problem });
    await announce(tx, restore.jobId);
  });
}

/** The names this restore has given so far, or is about to give: no two of its files may meet in one. */
export async function givenNames(db: Database, restore: ClaimedRestore): Promise<string[]> {
  const { rows } = await db.execute<{ output: string }>(
    sql`select output from restore_results where restore_id = ${restore.id} and output is not null and state in ('verified', 'gaps', 'same')`,
  );
  return rows.map(({ output }) => output);
}

/** How far one file is. */
export interface Settled {
  readonly id: number;
  readonly state: ResultState;
  readonly output?: string | null;
  readonly sha256?: string | null;
  readonly gaps?: Gaps | null;
  readonly fromDevice?: boolean | null;
  readonly leftAt?: number | null;
  readonly aside?: string | null;
  readonly leftBehind?: readonly string[] | null;
  readonly problem?: string | null;
  /** Bytes, where they were not known before. */
  readonly size?: number;
}

/** Writes down how far files are. What was written leaves the tray. @returns false when another worker has taken the restore over */
export async function settle(db: Database, restore: ClaimedRestore, files: readonly Settled[]): Promise<boolean> {
  if (files.length === 0) return true;
  return db.transaction(async (tx) => {
    const [held] = await tx.select({ epoch: restores.epoch }).from(restores).where(eq(restores.id, restore.id)).for("update");
    if (held?.epoch !== restore.epoch) return false;
    await tx.execute(sql`
      update restore_results r set state = s.state, output = s.output, sha256 = s.sha256, gaps = s.gaps, from_device = s."fromDevice", left_at = s."leftAt", aside = s.aside, left_behind = s."leftBehind",
        problem = s.problem, size = coalesce(s.size, r.size), finished_at = case when s.state not in ('waiting', 'writing') then now() end
      from jsonb_to_recordset(${JSON.stringify(files)}::jsonb)
        as s(id bigint, state text, output text, sha256 text, gaps jsonb, "fromDevice" boolean, "leftAt" float8, aside text, "leftBehind" jsonb, problem text, size bigint)
      where r.id = s.id and r.restore_id = ${restore.id}`);
    const written = files.filter(({ state }) => state === "verified" || state === "gaps");
    const there = [...written, ...files.filter(({ state }) => state === "same")];
    if (there.length > 0) await leaveTray(tx, restore, there);
    await keepHashes(tx, files);
    await replaceEarlier(tx, restore, written);
    for (const { id, gaps } of files) if (gaps && gaps.unreadable.length > 0) await learnUnreadable(tx, id, bytesIn(gaps.unreadable));
    await announce(tx, restore.jobId, "settled");
    return true;
  });
}

/** The hash of a content that was read in full is kept with its copy, so that nobody reads it again for that. */
async function keepHashes(tx: Connection, files: readonly Settled[]): Promise<void> {
  const ids = files.flatMap(({ id, state }) => (state === "verified" ? [Math.trunc(id)] : []));
  if (ids.length === 0) return;
  await tx.execute(sql`
    update copies c set sha256 = decode(r.sha256, 'hex') from restore_results r
    where r.id = any(${sql.raw(`'{${ids.join(",")}}'::bigint[]`)}) and r.stream is null and c.id = r.copy_id and c.sha256 is null`);
}

/** A copy of which less could be read than was known is not what it was called: its condition is derived anew. */
async function learnUnreadable(tx: Connection, resultId: number, bytes: number): Promise<void> {
  const { rows } = await tx.execute<{
    id: string;
    size: string;
    state: "live" | "deleted";
    type: "file" | "folder";
    evidence: Evidence;
    layout: Buffer;
  }>(sql`
    select c.id, c.size, c.state, c.type, c.evidence, c.layout from copies c join restore_results r on r.copy_id = c.id
    where r.id = ${resultId} and r.stream is null and c.layout is not null`);
  const [row] = rows;
  if (!row) return;
  const unreadable = bytes - row.evidence.lost;
  if (unreadable <= row.evidence.unreadable) return;
  const evidence = { ...row.evidence, unreadable };
  const judged = conditionOf({ type: row.type, size: Number(row.size), state: row.state, layout: decodeLayout(row.layout) }, evidence);
  await keepJudgement(tx, { copyId: Number(row.id), ...judged, evidence, notes: explain(evidence) });
}

async function leaveTray(tx: Connection, restore: ClaimedRestore, written: readonly Settled[]): Promise<void> {
  const ids = sql.raw(`'{${written.map(({ id }) => Math.trunc(id)).join(",")}}'::bigint[]`);
  await tx.execute(sql`
    delete from tray_entries t using restore_results r, items i
    where r.id = any(${ids}) and r.stream is null and i.id = r.item_id and t.job_id = ${restore.jobId} and t.item_id = r.item_id
      and coalesce(t.copy_id, i.best_copy_id) = r.copy_id`);
}

/** A file that stands under this name now takes the place of what earlier restores had written there. */
async function replaceEarlier(tx: Connection, restore: ClaimedRestore, written: readonly Settled[]): Promise<void> {
  const outputs = written.flatMap(({ output }) => (output ? [output] : []));
  if (outputs.length === 0) return;
  await tx
    .update(restoreResults)
    .set({ since: "replaced" })
    .where(and(inArray(restoreResults.output, outputs), ne(restoreResults.restoreId, restore.id)));
}

export async function finishRestore(db: Database, restore: ClaimedRestore): Promise<void> {
  await db.transaction(async (tx) => {
    await tx
      .update(restores)
      .set({ state: "done", wanted: "run", finishedAt: new Date() })
      .where(and(eq(restores.id, restore.id), eq(restores.epoch, restore.epoch)));
    await note(tx, restore.jobId, "Restore finished", { restore: restore.id });
    await announce(tx, restore.jobId);
  });
}

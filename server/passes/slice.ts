import { eq, sql } from "drizzle-orm";
import { drizzle } from "drizzle-orm/node-postgres";
import type pg from "pg";
import { decodeAscending } from "../../core/bytes/leb128";
import type { Range } from "../../core/bytes/range-set";
import { SECTOR } from "../../core/filesystems/sector-scan";
import type { PlaceRule } from "../../core/places/rule";
import type { SourceAt } from "../../io/open-source";
import { pickSourceAt } from "../../io/open-source";
import type { Connection, Database } from "../database/connection";
import * as schema from "../database/schema";
import { jobs, passes, passNotes, sources, stores } from "../database/schema";
import { note } from "../log/commands";
import { log } from "../log/logger";
import { activeRules } from "../places/queries";
import { readSettings } from "../settings";
import { missingDrive } from "../sources/drives";
import { SOURCE_AT } from "../sources/source-at";
import { noteUnreadable } from "../sources/unreadable";
import { announce, enqueue } from "../workers/queue";
import type { PassKinds, PassOptions, PassPlace, Sighted } from "./contract";
import { storeCopies } from "./store-copies";
import { sweptBefore } from "./swept";

/** What a worker needs to go on with a pass. */
export interface ClaimedPass extends SourceAt {
  readonly id: number;
  readonly jobId: number;
  readonly epoch: number;
  readonly resume: Uint8Array | null;
  readonly place: PassPlace;
  readonly options: PassOptions;
  /** The job's zone. */
  readonly timeZone: string;
  readonly sourceId: number;
  /** The rules of known places that are switched on; none for other passes. */
  readonly rules: readonly PlaceRule[];
  /** Of a sweep that was stopped with finds in hand: up to where it is gone through again to give them out, in bytes that are done. */
  readonly finish: number | null;
  /** Of a pass over leftovers that goes on: what it noted so far, bytes from the volume's beginning; null: nothing is kept of that. */
  readonly noted: Float64Array | null;
  /** Of a sweep: stretches that were swept before in the same way. Disk byte offsets. */
  readonly swept: readonly Range[];
  readonly volume: { readonly id: number; readonly offset: number; readonly length: number; readonly filesystem: string };
}

/** A sweep that is to be stopped and has something in hand. */
const STOPPED_IN_HAND = sql`(${passes.wanted} = 'stop' and (${passes.sighted}->>'count')::int > 0)`;

/** Takes a pass for this worker. @returns null when there is nothing to do for it any more */
export async function claimPass(db: Database, passId: number, workerId: string): Promise<ClaimedPass | null> {
  return db.transaction(async (tx) => {
    const [before] = await tx.select().from(passes).where(eq(passes.id, passId)).for("update");
    if (before && isOpen(before) && before.declined.includes(workerId)) {
      await leaveToOthers(tx, before, NOBODY_SEES_IT);
      return null;
    }
    const [row] = await tx
      .update(passes)
      .set({ state: "running", workerId, epoch: sql`${passes.epoch} + 1` })
      .where(
        sql`${passes.id} = ${passId} and ${passes.state} in ('queued', 'running') and (${passes.wanted} = 'run' or ${STOPPED_IN_HAND})`,
      )
      .returning();
    if (!row) {
      await settleUnclaimed(tx, passId);
      return null;
    }
    const [found] = await tx
      .select({
        volume: stores,
        ...SOURCE_AT,
        container: sources.container,
        size: sources.size,
        timeZone: jobs.timeZone,
      })
      .from(stores)
      .innerJoin(sources, eq(sources.id, stores.sourceId))
      .innerJoin(jobs, eq(jobs.id, sources.jobId))
      .where(eq(stores.id, row.storeId));
    if (!found) return null;
    const problem = missingDrive({ ...found, path: found.sourcePath });
    if (problem) await leaveToOthers(tx, { ...row, declined: [...row.declined, workerId] }, problem);
    await announce(tx, row.jobId);
    if (problem) return null;
    const takenFrom = before?.state === "running" && before.workerId !== workerId ? before.workerId : null;
    log.info(
      { pass: passId, place: row.place, source: found.sourcePath, worker: workerId, epoch: row.epoch, takenFrom, done: row.done },
      row.epoch === 1 ? "pass begins" : takenFrom ? "pass taken over" : "pass goes on",
    );
    const { volume, timeZone, ...source } = found;
    const { id, jobId, epoch, resume, options } = row;
    const rules = row.place === "known-places" ? await activeRules(tx) : [];
    const swept = row.place === "raw" && !options.again ? await sweptBefore(tx, id, volume, options) : [];
    return {
      id,
      jobId,
      epoch,
      resume,
      place: row.place as PassPlace,
      options,
      timeZone,
      ...pickSourceAt(source),
      sourceId: row.sourceId,
      rules,
      finish: row.wanted === "stop" ? row.done : null,
      noted: row.place === "leftover-record" ? await notedSoFar(tx, id) : null,
      swept,
      volume,
    };
  });
}

const isOpen = ({ state, wanted }: typeof passes.$inferSelect) => wanted === "run" && (state === "queued" || state === "running");

const NOBODY_SEES_IT =
  "None of the workers that run now sees this source. Connect it to a computer on which one runs, and let the pass go on; what was found is kept.";

/** How long a pass that a worker left to others waits until it is taken again: by chance, so that not the same one asks first each time. */
const leftForMs = () => 100 + Math.round(Math.random() * 1000);

/** Puts a pass back into the queue for workers that have not declined it; it fails when there is none. @param problem why it fails then */
async function leaveToOthers(tx: Connection, pass: typeof passes.$inferSelect, problem: string): Promise<void> {
  const { rows } = await tx.execute<{ id: string }>(
    sql`select id from workers where last_seen >= now() - make_interval(secs => ${readSettings().COMPASS_DEAD_AFTER})`,
  );
  const { id, jobId, declined } = pass;
  const others = rows.some((worker) => !declined.includes(worker.id));
  // Those that are gone need not be remembered.
  const known = declined.filter((each) => rows.some((worker) => worker.id === each));
  await tx
    .update(passes)
    .set(others ? { state: "queued", workerId: null, declined: known } : { state: "failed", problem, declined: [] })
    .where(eq(passes.id, id));
  if (others) await enqueue(tx, "pass", id, {}, leftForMs());
  else await note(tx, jobId, "Pass failed", { pass: id, problem });
  await announce(tx, jobId);
}

/** Says that this worker does not see the source of a pass it holds. @param problem why, in words */
export async function declinePass(db: Database, pass: ClaimedPass, workerId: string, problem: string): Promise<void> {
  log.info({ pass: pass.id, worker: workerId, problem }, "pass left to workers that see its source");
  await db.transaction(async (tx) => {
    const [held] = await tx.select().from(passes).where(eq(passes.id, pass.id)).for("update");
    if (held?.epoch !== pass.epoch || held.state !== "running") return;
    await leaveToOthers(tx, { ...held, declined: [...held.declined, workerId] }, problem);
  });
}

async function notedSoFar(tx: Connection, passId: number): Promise<Float64Array | null> {
  const rows = await tx.select({ noted: passNotes.noted }).from(passNotes).where(eq(passNotes.passId, passId)).orderBy(passNotes.id);
  return rows.length === 0 ? null : Float64Array.from(rows.flatMap((row) => [...decodeAscending(row.noted, SECTOR)]));
}

/** A pass whose worker died after a pause or stop was asked for still has to show it. */
async function settleUnclaimed(db: Connection, passId: number): Promise<void> {
  await db.execute(sql`
    update passes set state = case wanted when 'pause' then 'paused' else 'stopped' end,
      finished_at = case wanted when 'stop' then now() end, sighted = case wanted when 'pause' then sighted end
    where id = ${passId} and state = 'running' and wanted <> 'run'`);
}

/** Whether a pause or stop was asked for of a pass this worker holds; it is null when another one has it. */
export async function isWanted(db: Connection, pass: ClaimedPass): Promise<boolean | null> {
  const [row] = await db.select({ wanted: passes.wanted, epoch: passes.epoch }).from(passes).where(eq(passes.id, pass.id));
  return row?.epoch === pass.epoch ? row.wanted === "run" : null;
}

/** Pauses or stops a pass as was asked, without waiting for what its reader is at: that part is read again when it goes on. */
export async function endAtOnce(db: Database, pass: ClaimedPass): Promise<void> {
  await db.transaction(async (tx) => {
    const [held] = await tx.select().from(passes).where(eq(passes.id, pass.id)).for("update");
    if (held?.epoch !== pass.epoch || held.state !== "running") return;
    // What a sweep has in hand is given out first, as when it is stopped between two batches.
    if (held.wanted === "stop" && (held.sighted?.count ?? 0) > 0) {
      await tx.update(passes).set({ state: "queued" }).where(eq(passes.id, pass.id));
      await enqueue(tx, "pass", pass.id);
    } else await settleUnclaimed(tx, pass.id);
    await announce(tx, pass.jobId);
  });
}

export interface Batch {
  /** Rows in PostgreSQL's COPY text form, columns as in `COPY_COLUMNS`. */
  readonly rows: Uint8Array;
  readonly resume: Uint8Array | null;
  readonly done: number;
  readonly total: number;
  /** It is on its way to an end that was asked for. */
  readonly finishing: boolean;
  /** Milliseconds of work since the batch before. */
  readonly ms: number;
  /** Stretches of the disk that could not be read so far. Bytes. */
  readonly unreadable: readonly { start: number; end: number }[];
  readonly reach: readonly { start: number; end: number }[] | null;
  /** Of a sweep: what it has found and not given out yet. */
  readonly sighted: Sighted | null;
  /** Of a pass over leftovers: what it noted since the batch before, encoded. */
  readonly noted: Uint8Array | null;
}

/** "finish": a stop was asked for, and what is in hand is to be given out first. */
export type AfterBatch = "go on" | "paused" | "stopped" | "finish" | "taken over";

/**
 * Stores a batch of copies, gathers them into items and moves the resume point, all in one transaction: a worker
 * killed at any moment loses at most the batch it had not finished, and none is stored twice.
 * @param then "end": the pass is finished; "stop": it ends here because that was asked for; "slice": the next slice goes into the queue;
 *   "more": this slice goes on
 */
export async function commitBatch(
  pool: pg.Pool,
  pass: ClaimedPass,
  batch: Batch,
  then: "more" | "slice" | "stop" | "end",
): Promise<AfterBatch> {
  const client = await pool.connect();
  try {
    await client.query("begin");
    // A batch that is lost with the database's last moment is read again: rows and resume point stand or fall together.
    if (then === "more") await client.query("set local synchronous_commit = off");
    // The row is locked first: a pause waits for the batch, and a worker that lost the pass stops here.
    const held = await client.query<{ wanted: string; epoch: number; kinds: PassKinds }>(
      "select wanted, epoch, kinds from passes where id = $1 for update",
      [pass.id],
    );
    if (held.rows[0]?.epoch !== pass.epoch) {
      await client.query("rollback");
      return "taken over";
    }
    const found = await storeCopies(client, pass, batch.rows);
    // The first batch is kept even when it noted nothing: then it is known that nothing is missing.
    if (batch.noted)
      await client.query(
        "insert into pass_notes (pass_id, noted) select $1::int, $2::bytea where $3 or not exists (select 1 from pass_notes where pass_id = $1::int)",
        [pass.id, batch.noted, batch.noted.length > 0],
      );
    const wanted = held.rows[0].wanted;
    const ended = then === "end" || then === "stop";
    const inHand = batch.finishing || (batch.sighted?.count ?? 0) > 0;
    const after: AfterBatch = ended || wanted === "run" ? "go on" : wanted === "pause" ? "paused" : inHand ? "finish" : "stopped";
    const state = then === "end" ? "done" : then === "stop" ? "stopped" : after === "paused" || after === "stopped" ? after : "running";
    const over = state === "done" || state === "stopped";
    await client.query(
      `update passes set state = $2, resume = $3, done = $4, total = $5, found_live = found_live + $6, found_lost = found_lost + $7, kinds = $11,
         active_ms = active_ms + $8, reach = $9, sighted = $10, finished_at = case when $2 in ('done', 'stopped') then now() end where id = $1`,
      [
        pass.id,
        state,
        batch.resume,
        batch.done,
        batch.total,
        found.live,
        found.lost.reduce((sum, { count }) => sum + count, 0),
        Math.round(batch.ms),
        batch.reach && JSON.stringify(batch.reach),
        over ? null : batch.sighted && JSON.stringify(batch.sighted),
        JSON.stringify(addKinds(held.rows[0].kinds, found.lost)),
      ],
    );
    const tx = drizzle(client, { schema });
    await noteUnreadable(tx, pass.sourceId, batch.unreadable);
    if (over) await tx.delete(passNotes).where(eq(passNotes.passId, pass.id));
    if (then === "slice" && after === "go on") await enqueue(tx, "pass", pass.id);
    if (then === "end") await note(tx, pass.jobId, "Pass finished", { pass: pass.id });
    if (over) {
      await enqueue(tx, "thumbnails", pass.jobId);
      await enqueue(tx, "equals", pass.jobId);
      await enqueue(tx, "facts", pass.jobId);
      if (then === "end" && pass.place === "file-record") await enqueue(tx, "reading", pass.volume.id);
    }
    await announce(tx, pass.jobId);
    await client.query("commit");
    // While copies come in, the index over the names only notes them; searching is quick again when it has filed them.
    // If that fails, the database does it by itself sooner or later.
    if (over) await client.query("select gin_clean_pending_list('items_name_words')").catch(() => undefined);
    return after;
  } catch (error) {
    await client.query("rollback").catch(() => undefined);
    throw error;
  } finally {
    client.release();
  }
}

/** Adds counts by place and kind up, the most first. */
function addKinds(known: PassKinds, more: PassKinds): PassKinds {
  const sums = new Map<string, PassKinds[number]>();
  for (const each of [...known, ...more]) {
    const key = `${each.place} ${each.kind}`;
    sums.set(key, { ...each, count: (sums.get(key)?.count ?? 0) + each.count });
  }
  return [...sums.values()].sort((a, b) => b.count - a.count);
}

export async function failPass(db: Database, pass: ClaimedPass, problem: string): Promise<void> {
  await db.update(passes).set({ state: "failed", problem }).where(sql`${passes.id} = ${pass.id} and ${passes.epoch} = ${pass.epoch}`);
  await note(db, pass.jobId, "Pass failed", { pass: pass.id, problem });
  await announce(db, pass.jobId);
}

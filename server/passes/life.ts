import { eq, sql } from "drizzle-orm";
import { decodeAscending } from "../../core/bytes/leb128";
import type { Range } from "../../core/bytes/range-set";
import { SECTOR } from "../../core/filesystems/sector-scan";
import type { PlaceRule } from "../../core/places/rule";
import { laterOver, type VolumeAt } from "../../core/volumes/inspect";
import type { SourceAt } from "../../io/open-source";
import { pickSourceAt } from "../../io/open-source";
import type { Connection, Database } from "../database/connection";
import { jobs, passes, passNotes, sources, stores } from "../database/schema";
import { note } from "../log/commands";
import { log } from "../log/logger";
import { activeRules } from "../places/queries";
import { readSettings } from "../settings";
import { missingDrive } from "../sources/drives";
import { SOURCE_AT } from "../sources/source-at";
import { announce, enqueue } from "../workers/queue";
import { type PassOptions, type PassPlace, passKind } from "./contract";
import { sweptBefore } from "./swept";
import { afterEvent } from "./transitions";

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
  readonly volume: {
    readonly id: number;
    readonly offset: number;
    readonly length: number;
    readonly filesystem: string;
    readonly view: string | null;
    /** Of an earlier volume: those that lie over it. */
    readonly over: readonly VolumeAt[];
  };
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
    const swept = passKind(row.place as PassPlace).goesOnFromOthers && !options.again ? await sweptBefore(tx, id, volume, options) : [];
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
      noted: await notedSoFar(tx, id),
      swept,
      volume: { ...volume, over: await volumesOver(tx, volume) },
    };
  });
}

/** The volumes of the same disk that lie over an earlier one. */
async function volumesOver(tx: Connection, volume: typeof stores.$inferSelect): Promise<VolumeAt[]> {
  if (volume.standing !== "earlier") return [];
  const all = await tx.select().from(stores).where(eq(stores.sourceId, volume.sourceId));
  return laterOver(toVolumeAt(volume), all.map(toVolumeAt));
}

const toVolumeAt = ({ offset, length, filesystem, view, standing }: typeof stores.$inferSelect) => ({
  offset,
  length,
  filesystem: filesystem as VolumeAt["filesystem"],
  view,
  standing,
});

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
    const { state } = afterEvent("cut off", held.wanted, (held.sighted?.count ?? 0) > 0);
    if (state === "queued") {
      await tx.update(passes).set({ state }).where(eq(passes.id, pass.id));
      await enqueue(tx, "pass", pass.id);
    } else await settleUnclaimed(tx, pass.id);
    await announce(tx, pass.jobId);
  });
}

export async function failPass(db: Database, pass: ClaimedPass, problem: string): Promise<void> {
  await db.update(passes).set({ state: "failed", problem }).where(sql`${passes.id} = ${pass.id} and ${passes.epoch} = ${pass.epoch}`);
  await note(db, pass.jobId, "Pass failed", { pass: pass.id, problem });
  await announce(db, pass.jobId);
}

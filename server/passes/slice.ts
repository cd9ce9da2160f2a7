import { Readable } from "node:stream";
import { pipeline } from "node:stream/promises";
import { eq, sql } from "drizzle-orm";
import { drizzle } from "drizzle-orm/node-postgres";
import type pg from "pg";
import { from as copyFrom } from "pg-copy-streams";
import { decodeAscending } from "../../core/bytes/leb128";
import type { Range } from "../../core/bytes/range-set";
import { SECTOR } from "../../core/filesystems/sector-scan";
import type { PlaceRule } from "../../core/places/rule";
import { SHIPPED_RULES } from "../../core/places/rules";
import type { SourceAt } from "../../io/open-source";
import type { Connection, Database } from "../database/connection";
import * as schema from "../database/schema";
import { jobs, passes, passNotes, sources, volumes } from "../database/schema";
import { note } from "../log/commands";
import { activeRules } from "../places/queries";
import { missingDrive } from "../sources/drives";
import { noteUnreadable } from "../sources/unreadable";
import { announce, enqueue } from "../workers/queue";
import type { PassKinds, PassOptions, PassPlace, Sighted } from "./contract";
import { sweptBefore } from "./swept";

/** What a worker needs to go on with a pass. */
export interface ClaimedPass extends SourceAt {
  readonly id: number;
  readonly jobId: number;
  readonly epoch: number;
  readonly resume: number;
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
        volume: volumes,
        path: sources.path,
        beside: sources.beside,
        bad: sources.unreadable,
        mark: sources.mark,
        container: sources.container,
        size: sources.size,
        timeZone: jobs.timeZone,
      })
      .from(volumes)
      .innerJoin(sources, eq(sources.id, volumes.sourceId))
      .innerJoin(jobs, eq(jobs.id, sources.jobId))
      .where(eq(volumes.id, row.volumeId));
    if (!found) return null;
    const problem = missingDrive(found);
    if (problem) await tx.update(passes).set({ state: "failed", problem }).where(eq(passes.id, passId));
    await announce(tx, row.jobId);
    if (problem) return null;
    const { volume, timeZone, beside, bad, mark } = found;
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
      sourcePath: found.path,
      sourceId: row.sourceId,
      beside,
      bad,
      mark,
      rules,
      finish: row.wanted === "stop" ? row.done : null,
      noted: row.place === "leftover-record" ? await notedSoFar(tx, id) : null,
      swept,
      volume,
    };
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
  /** Rows in PostgreSQL's COPY text form, columns as in `INCOMING_COLUMNS`. */
  readonly rows: Uint8Array;
  readonly resume: number;
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

export const INCOMING_COLUMNS = [
  "place",
  "item_key",
  "folder_path",
  "kind",
  "state",
  "type",
  "reference",
  "name",
  "name_raw",
  "size",
  "created",
  "modified",
  "changed",
  "deleted_at",
  "condition",
  "survival",
  "evidence",
  "layout",
  "first_at",
  "span",
  "streams",
  "links",
  "encrypted",
  "notes",
  "file",
  "rule",
  "found_path",
  "facts",
  "local_times",
] as const;

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

/** A record that another pass over the same place has stored already, a narrowed one before a whole one for instance. */
const NOT_STORED = `not exists (
  select 1 from copies c where c.item_id = t.id and c.pass_id <> $3 and c.place = i.place and c.reference = i.reference and c.name = i.name)`;

/** Times come as milliseconds: numbers are read faster than dates. */
const TIME = (column: string) => `to_timestamp(${column} / 1000)`;

/** What a batch brought: live files, and lost ones by place and kind. */
interface Brought {
  readonly live: number;
  readonly lost: PassKinds;
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

async function storeCopies(client: pg.PoolClient, pass: ClaimedPass, rows: Uint8Array): Promise<Brought> {
  if (rows.length === 0) return { live: 0, lost: [] };
  const others = await client.query("select 1 from passes where volume_id = $1 and place = $2 and id <> $3 and done > 0 limit 1", [
    pass.volume.id,
    pass.place,
    pass.id,
  ]);
  const earlier = others.rows.length > 0;
  await client.query(`create temp table incoming (
    id bigint not null default nextval('copies_id_seq'), place text, item_key text collate "C", folder_path text, kind text, state text, type text,
    reference text, name text, name_raw bytea, size bigint, created float8, modified float8, changed float8, deleted_at float8,
    condition text, survival float8, evidence jsonb, layout bytea, first_at bigint, span int8range, streams jsonb, links int, encrypted boolean, notes jsonb,
    file text, rule text, found_path text, facts jsonb, local_times boolean) on commit drop`);
  const into = client.query(copyFrom(`copy incoming (${INCOMING_COLUMNS.join(", ")}) from stdin`));
  await pipeline(Readable.from([rows]), into);
  const { jobId, id: passId } = pass;
  const volumeId = pass.volume.id;
  if (pass.place === "raw") {
    await client.query(CONFIRMS_RECORD, [jobId, volumeId]);
    await client.query(OWNED_BY_RECORD, [jobId, volumeId]);
  }
  await client.query(
    `insert into folders (job_id, volume_id, path) select distinct $1::int, $2::int, folder_path from incoming
     on conflict (volume_id, md5(path)) do nothing`,
    [jobId, volumeId],
  );
  const insertItems = `insert into items (job_id, volume_id, folder_id, key, name, kind, lost, places, best_copy_id, size, modified, condition, survival, facts, live, opens,
       created, deleted_at, extension)
     select distinct on (item_key) $1::int, $2::int, f.id, item_key, name, kind, ${lostIf("i")}, array[i.place], i.id, size, ${TIME("i.modified")}, condition, survival, facts,
       i.state = 'live', ${OPENS("i")}, ${TIME("i.created")}, ${TIME("i.deleted_at")}, ${EXTENSION}
     from incoming i join folders f on f.volume_id = $2 and md5(f.path) = md5(i.folder_path)
     where item_key is not null order by item_key
     on conflict (job_id, key) do nothing`;
  const { rowCount: inserted } = await client.query(insertItems, [jobId, volumeId]);
  const [counted] = (await client.query<{ count: number }>("select count(item_key)::int as count from incoming")).rows;
  // Where each row has brought an item of its own, none can be the twin of another one.
  if ((counted?.count ?? 0) > (inserted ?? 0)) {
    const { rowCount: twins } = await client.query(TWINS, [jobId, passId]);
    if (twins) await client.query(insertItems, [jobId, volumeId]);
  }
  // A batch is small beside what it meets: row by row it looks up its item and its folder, and it does so once, for the copies and for
  // what is to be gathered. Left to itself, the database would now and then go through all items, or all folders, instead: its statistics
  // lag behind tables that grow this fast.
  await client.query("set local enable_seqscan = off");
  await client.query("create temp table touched (id bigint not null) on commit drop");
  const brought = await client.query<{ place: string; kind: string; lost: boolean; count: number }>(
    `with matched as materialized (
       select i.*, t.id as item_id, t.best_copy_id, f.id as folder_id
       from incoming i
       cross join lateral (select id from folders where volume_id = $2 and md5(path) = md5(i.folder_path) limit 1) f
       left join lateral (select id, best_copy_id from items where job_id = $1 and key = i.item_key limit 1) t on true
       ${earlier ? `where ${NOT_STORED}` : ""}
     ), stored as (
       insert into copies (id, job_id, pass_id, volume_id, item_id, folder_id, place, state, type, reference, name, name_raw, size,
         created, modified, changed, deleted_at, condition, survival, evidence, layout, first_at, span, streams, links, encrypted, notes,
         file, rule, found_path, facts, local_times)
       select id, $1::int, $3::int, $2::int, item_id, folder_id, place, state, type, reference, name, name_raw, size,
         ${["created", "modified", "changed", "deleted_at"].map(TIME).join(", ")}, condition, survival, evidence, layout, first_at, span, streams, links,
         encrypted, notes, file, rule, found_path, facts, local_times
       from matched
     ), gathered as (
       insert into touched select distinct item_id from matched where best_copy_id <> id
     )
     select place, kind, (state = 'deleted' or rule is not null) as lost, count(*)::int as count from matched where item_id is not null group by 1, 2, 3`,
    [jobId, volumeId, passId],
  );
  await client.query(BEST_COPY);
  return {
    live: brought.rows.reduce((sum, { lost, count }) => sum + (lost ? 0 : count), 0),
    lost: brought.rows.filter(({ lost }) => lost).map(({ place, kind, count }) => ({ place, kind, count })),
  };
}

/**
 * Live files of one pass whose paths differ in capitals or Unicode form alone are different files, on a volume that tells these apart: all but
 * the first become items of their own.
 */
const TWINS = `
  with first as (
    select id, reference, folder_path, name, first_value(reference) over same as first_reference,
      first_value(folder_path || '/' || name) over same as first_path
    from incoming where state = 'live' and place = 'file-record' and item_key is not null window same as (partition by item_key order by id)
  ), twins as (
    select i.id from incoming i join first w on w.id = i.id
    where (w.first_reference <> i.reference and w.first_path <> i.folder_path || '/' || i.name)
      or exists (
        select 1 from items t join copies c on c.item_id = t.id join folders f on f.id = c.folder_id
        where t.job_id = $1 and t.key = i.item_key and c.pass_id = $2 and c.state = 'live' and c.place = 'file-record'
          and c.reference <> i.reference and (c.name <> i.name or f.path <> i.folder_path))
  )
  update incoming i set item_key = i.item_key || '#' || md5(i.reference) from twins where twins.id = i.id`;

/** Whether a content opens, as far as it was looked into. */
export const OPENS = (row: string) =>
  `case when ${row}.evidence->'content'->>'finding' is null then null when ${row}.evidence->'content'->>'finding' = 'agrees' and (${row}.evidence->'content'->>'checked')::boolean then 'yes'
    when ${row}.evidence->'content'->>'finding' = 'damaged' then 'no' else 'unknown' end`;
const EXTENSION = `coalesce(lower(substring(name from '[^.]\\.([^.[:space:]]{1,12})$')), '')`;

/**
 * Content that stands in the very clusters of a record's file, and is as long, is that file's own copy and no second one: it confirms what
 * the record says, and keeps the record's dates.
 */
const CONFIRMS_RECORD = `
  with same as (
    select distinct on (i.id) i.id, c.id as copy_id, i.evidence->'content' as content from incoming i
    join copies c on c.job_id = $1 and c.volume_id = $2 and c.first_at = i.first_at and c.place <> 'raw' and c.type = 'file' and c.size = i.size
      and c.span is not distinct from i.span
    where i.facts->>'inside' is null order by i.id, (c.state = 'deleted') desc, c.id
  ), gone as (delete from incoming i using same where i.id = same.id)
  update copies c set notes = c.notes || '["Raw content found at the same place confirms it."]'::jsonb
  from same where c.id = same.copy_id and not c.notes ? 'Raw content found at the same place confirms it.'`;

/**
 * Content that begins where a file record's does, and is of its kind, is that file's: the record's name, folder and dates win. What lies
 * inside another find is no file of a record.
 */
const OWNED_BY_RECORD = `
  update incoming i set item_key = t.key, name = t.name, folder_path = f.path, local_times = c.local_times,
    modified = extract(epoch from c.modified) * 1000, created = extract(epoch from c.created) * 1000
  from copies c join items t on t.id = c.item_id join folders f on f.id = t.folder_id
  where c.job_id = $1 and c.volume_id = $2 and c.first_at = i.first_at and c.place <> 'raw' and c.type = 'file' and t.kind = i.kind
    and i.facts->>'inside' is null`;

/** Places whose copies were kept because something may be lost: there a live file is a find too. */
const KEPT_PLACES = `'bin', 'autosave', 'temporary', 'own-backup'`;
const ORDINARY = SHIPPED_RULES.filter((rule) => rule.ordinary)
  .map((rule) => `'${rule.id}'`)
  .join(", ");

/** Whether a copy is one of a lost file: deleted, kept in a known place, or known by its name alone. */
const lostIf = (copy: string) =>
  `(${copy}.state = 'deleted' or (${copy}.place in (${KEPT_PLACES}) and ${copy}.rule not in (${ORDINARY})) or (${copy}.condition = 'name-only' and (${copy}.size > 0 or ${copy}.place = 'recent')))`;

/** Whether an item with these copies is lost: a list that names a file says nothing about it where the file is there. */
const LOST_ITEM = `bool_or(${lostIf("c")} and not (c.condition = 'name-only' and c.rule is not null)) or not bool_or(c.rule is null or c.condition <> 'name-only')`;

/** The order of an item's copies `c`, the best first. */
export const BEST_FIRST = `array_position(array['whole', 'partial', 'not-checked', 'name-only'], c.condition), (c.place = 'raw'),
  (c.place = 'temporary'), (c.state = 'live' and c.rule is null), c.modified desc nulls last, c.survival desc, c.id`;

/** Sets what items say of their copies anew. @param touched a query for the ids of the items in question */
export function gatherCopies(touched: string): string {
  return `
  with touched as (${touched}), ranked as (
    select distinct on (c.item_id) c.item_id, c.id, c.size, c.modified, c.condition, c.survival, c.facts, c.state = 'live' as live, ${OPENS("c")} as opens,
      c.created, c.deleted_at
    from copies c join touched on touched.id = c.item_id
    order by c.item_id, ${BEST_FIRST}
  ), counted as (
    select c.item_id, count(*)::int as copies, ${LOST_ITEM} as lost, array_agg(distinct c.place) as places
    from copies c join touched on touched.id = c.item_id group by c.item_id
  )
  update items set copies = counted.copies, lost = counted.lost, places = counted.places,
    best_copy_id = case when overruled then best_copy_id else ranked.id end,
    size = case when overruled then items.size else ranked.size end,
    modified = case when overruled then items.modified else ranked.modified end,
    condition = case when overruled then items.condition else ranked.condition end,
    survival = case when overruled then items.survival else ranked.survival end,
    facts = case when overruled then items.facts else ranked.facts end,
    live = case when overruled then items.live else ranked.live end,
    opens = case when overruled then items.opens else ranked.opens end,
    created = case when overruled then items.created else ranked.created end,
    deleted_at = case when overruled then items.deleted_at else ranked.deleted_at end
  from ranked join counted using (item_id) where items.id = ranked.item_id`;
}

/**
 * Items that have gathered more than one copy take the facts of their best one: whole before partial, then lost before
 * live (the live one needs no rescue), then the newest content. What the technician has chosen stays.
 */
const BEST_COPY = gatherCopies("select id from touched");

export async function failPass(db: Database, pass: ClaimedPass, problem: string): Promise<void> {
  await db.update(passes).set({ state: "failed", problem }).where(sql`${passes.id} = ${pass.id} and ${passes.epoch} = ${pass.epoch}`);
  await note(db, pass.jobId, "Pass failed", { pass: pass.id, problem });
  await announce(db, pass.jobId);
}

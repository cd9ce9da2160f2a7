import { eq } from "drizzle-orm";
import { drizzle } from "drizzle-orm/node-postgres";
import type pg from "pg";
import type { SetFacts } from "../../core/sets/set-facts";
import * as schema from "../database/schema";
import { passNotes } from "../database/schema";
import { hasDoubled, refreshStatistics } from "../database/statistics";
import { askToCheckTray } from "../items/check";
import { note } from "../log/commands";
import { noteUnreadable } from "../sources/unreadable";
import { announce, enqueue } from "../workers/queue";
import { type PassKinds, passKind, type Sighted } from "./contract";
import type { ClaimedPass } from "./life";
import { storeCopies } from "./store-copies";
import { type After, afterEvent, isOver, type PassEvent, type Wanted } from "./transitions";

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
  /** Of a pass over earlier states: the sets it knows of so far. */
  readonly sets: readonly SetFacts[] | null;
}

/**
 * Stores a batch of copies, gathers them into items and moves the resume point, all in one transaction: a worker
 * killed at any moment loses at most the batch it had not finished, and none is stored twice.
 * @returns "taken over": another worker holds the pass now, and nothing is stored
 */
export async function commitBatch(
  pool: pg.Pool,
  pass: ClaimedPass,
  batch: Batch,
  event: Exclude<PassEvent, "cut off">,
): Promise<After | "taken over"> {
  const client = await pool.connect();
  try {
    await client.query("begin");
    // A batch that is lost with the database's last moment is read again: rows and resume point stand or fall together.
    if (event === "batch") await client.query("set local synchronous_commit = off");
    // The row is locked first: a pause waits for the batch, and a worker that lost the pass stops here.
    const held = await client.query<{ wanted: Wanted; epoch: number; kinds: PassKinds; found: number }>(
      "select wanted, epoch, kinds, found_live + found_lost as found from passes where id = $1 for update",
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
    if (batch.sets) await client.query("update stores set sets = $2 where id = $1", [pass.volume.id, JSON.stringify(batch.sets)]);
    const inHand = batch.finishing || (batch.sighted?.count ?? 0) > 0;
    const { state, after } = afterEvent(event, held.rows[0].wanted, inHand);
    const over = isOver(state);
    const lost = found.lost.reduce((sum, { count }) => sum + count, 0);
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
        lost,
        Math.round(batch.ms),
        batch.reach && JSON.stringify(batch.reach),
        over ? null : batch.sighted && JSON.stringify(batch.sighted),
        JSON.stringify(addKinds(held.rows[0].kinds, found.lost)),
      ],
    );
    const tx = drizzle(client, { schema });
    await noteUnreadable(tx, pass.sourceId, batch.unreadable);
    if (over) await tx.delete(passNotes).where(eq(passNotes.passId, pass.id));
    if (event === "slice" && after === "go on") await enqueue(tx, "pass", pass.id);
    if (event === "end") await note(tx, pass.jobId, "Pass finished", { pass: pass.id });
    if (over) {
      await enqueue(tx, "thumbnails", pass.jobId);
      await enqueue(tx, "equals", pass.jobId);
      await enqueue(tx, "facts", pass.jobId);
      // What is chosen may have a better copy now.
      await askToCheckTray(tx, pass.jobId);
      if (event === "end" && passKind(pass.place).readingFollows) await enqueue(tx, "reading", pass.volume.id);
    }
    await announce(tx, pass.jobId);
    await client.query("commit");
    const before = Number(held.rows[0].found);
    const now = before + found.live + lost;
    if (now > 0 && (over || hasDoubled(before, now))) await refreshStatistics(drizzle(client, { schema }), "copies", "items", "folders");
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

import { and, eq, sql } from "drizzle-orm";
import { diskRuns, firstByte, LayoutSource } from "../../core/bytes/layout";
import { encodeLayout } from "../../core/bytes/layout-code";
import { bytesIn } from "../../core/restore/gaps";
import { LONG } from "../../core/sweep/joining/effort";
import { layFile, toLayout } from "../../core/sweep/laid-file";
import { lookLonger } from "../../core/sweep/longer-look";
import { isUsed } from "../../core/sweep/plan-sweep";
import { rawCopy } from "../../core/sweep/raw-copy";
import type { Database } from "../database/connection";
import { copies } from "../database/schema";
import { lockGathering } from "../items/join";
import { note } from "../log/commands";
import { gatherCopies } from "../passes/best-copy";
import { spanOf } from "../passes/copy-rows";
import { Problem } from "../problem";
import { announce } from "../workers/queue";
import type { KeptPieces, Piece } from "./contract";
import { neighboursOf } from "./neighbours";
import { type CopyRow, type LaidCopy, storedFrom, toLaidCopy, withLaying } from "./pieces";

/** Keeps a copy whose pieces were laid by hand, beside the one it was made of. @throws Problem when they cannot be laid so */
export async function keepPieces(db: Database, copyId: number, pieces: readonly Piece[]): Promise<KeptPieces> {
  const { row, laid } = await withLaying(db, copyId, (opened) => ({
    row: opened.row,
    laid: toLaidCopy(opened, layFile(opened.room, opened.from, pieces)),
  }));
  return store(db, row, laid, "Pieces laid by hand");
}

/** Looks longer for the pieces of a file than a sweep does, and keeps what is found as a copy beside it. */
export async function lookLongerFor(db: Database, copyId: number): Promise<KeptPieces> {
  const found = await withLaying(db, copyId, async (opened) => {
    const { room, row, store, volume, from, layout } = opened;
    const at = firstByte(layout) ?? store.offset;
    if (!("format" in from)) throw new Problem("A longer look is for files that were found by their content: lay its pieces by hand.", 409);
    const reach = Math.max(LONG.reach, LONG.leastAway * room.grid.cluster);
    const neighbours = await neighboursOf(db, row.storeId, room.grid, { start: at - reach, end: at + reach }, copyId);
    const find = lookLonger({ ...room, ...neighbours }, from.format, at);
    if (!find) return { row, laid: null };
    const content = toLayout(find.segments, find.size);
    const unreadable = bytesIn(new LayoutSource(room.disk, content).unreadable(0, content.size));
    const copy = rawCopy(find, unreadable, isUsed(volume, at), "longer-look");
    return { row, laid: storedFrom(copy, content, row) };
  });
  if (found.laid) return store(db, found.row, found.laid, "Pieces found by a longer look");
  await note(db, found.row.jobId, "Longer look for pieces", { copy: copyId, found: false });
  // A search has bounds of several kinds: that it found nothing does not say that there is nothing.
  const words = "No pieces were found that fit. They may lie farther away, or at a place that was not tried.";
  return { copyId: null, itemId: itemOf(found.row), words };
}

function itemOf({ itemId }: CopyRow): number {
  if (itemId === null) throw new Problem("This copy is of no item.", 409);
  return itemId;
}

/** Stores a copy beside the one it was made of, and has the item choose its best anew. */
async function store(db: Database, row: CopyRow, laid: LaidCopy, what: string): Promise<KeptPieces> {
  return db.transaction(async (tx) => {
    await lockGathering(tx, row.jobId);
    // Meanwhile its item may have been joined to another, or the copy be gone with its source.
    const [now] = await tx.select().from(copies).where(eq(copies.id, row.id)).for("share");
    if (!now) throw new Problem("This copy is there no more.", 404);
    const itemId = itemOf(now);
    const layout = Buffer.from(encodeLayout(laid.layout));
    const [same] = await tx
      .select({ id: copies.id })
      .from(copies)
      .where(and(eq(copies.itemId, itemId), eq(copies.storeId, row.storeId), eq(copies.layout, layout)));
    if (same) return { copyId: same.id, itemId, words: "A copy with these pieces is there already." };
    const { id: _, ...rest } = now;
    const [kept] = await tx
      .insert(copies)
      .values({
        ...rest,
        layout,
        size: laid.size,
        condition: laid.condition,
        survival: laid.survival,
        evidence: laid.evidence,
        facts: laid.facts,
        notes: [...laid.notes],
        firstAt: firstByte(laid.layout),
        span: spanOf(laid.layout),
        // Whatever was known to be the same as the copy it was made of is not the same as this.
        sha256: null,
        sameAs: null,
      })
      .returning({ id: copies.id });
    if (!kept) throw new Error("a copy was not stored");
    await tx.execute(sql.raw(gatherCopies(`select ${Math.trunc(itemId)}::bigint as id`)));
    await note(tx, row.jobId, what, { copy: row.id, kept: kept.id, pieces: diskRuns(laid.layout) });
    await announce(tx, row.jobId);
    return { copyId: kept.id, itemId, words: describeKept(laid) };
  });
}

function describeKept({ layout, condition }: LaidCopy): string {
  const count = diskRuns(layout).length;
  const what = count === 1 ? "in one piece" : `in ${count} pieces`;
  const how = { whole: "whole", partial: "still partial", "not-checked": "not checked", "name-only": "a name only" }[condition];
  return `Kept as a copy ${what}: ${how}.`;
}

/** Takes a copy away whose pieces were laid anew. @throws Problem when it is none of those, or something stands by it */
export async function dropPieces(db: Database, copyId: number): Promise<void> {
  await db.transaction(async (tx) => {
    const [row] = await tx.select().from(copies).where(eq(copies.id, copyId));
    if (!row) throw new Problem("There is no such copy.", 404);
    const { laid } = row.evidence as LaidCopy["evidence"];
    if (!laid) throw new Problem("This copy was found by a pass: it stays.", 409);
    await lockGathering(tx, row.jobId);
    const { rows } = await tx.execute(sql`
      select 1 from restore_results where copy_id = ${copyId} union all select 1 from share_choices where copy_id = ${copyId} limit 1`);
    if (rows.length > 0) throw new Problem("This copy was restored, or chosen by the client: it stays.", 409);
    const itemId = itemOf(row);
    await tx.execute(sql`delete from tray_entries where job_id = ${row.jobId} and copy_id = ${copyId}`);
    await tx.execute(sql`delete from thumbnails where copy_id = ${copyId}`);
    await tx.execute(sql`delete from copy_checks where copy_id = ${copyId}`);
    await tx.execute(sql`update items set overruled = false where id = ${itemId} and best_copy_id = ${copyId}`);
    await tx.execute(sql`delete from copies where id = ${copyId}`);
    await tx.execute(sql.raw(gatherCopies(`select ${Math.trunc(itemId)}::bigint as id`)));
    await note(tx, row.jobId, "Laid copy taken away", { copy: copyId });
    await announce(tx, row.jobId);
  });
}

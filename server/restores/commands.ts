import { and, eq, inArray, sql } from "drizzle-orm";
import type { z } from "zod";
import { COMPANION_PATTERN } from "../../core/restore/companions";
import { SECOND_FILE } from "../../core/restore/two-files";
import type { Database } from "../database/connection";
import { restoreResults, restores } from "../database/schema";
import { refreshStatistics } from "../database/statistics";
import { note } from "../log/commands";
import { Problem } from "../problem";
import { announce, enqueue } from "../workers/queue";
import { assignBags } from "./bags";
import type { startRestore as startContract } from "./contract";
import { checkDestination, destinationRoot } from "./delivery";
import { refusalFor, refusalOfBag, refusalOfStreams } from "./guards";
import { DOES_NOT_OPEN, NUMBERED_BY, REPAIRED, SECOND, type StoredStream, secondFileOf, trayCopies, WRITABLE } from "./planned";
import { rehearseSums } from "./rehearsal";

/** Starts writing the tray to a destination. @returns the restore's id; that of the one it started, when the same press comes again */
export async function startRestore(db: Database, jobId: number, { asked, ...whole }: z.infer<typeof startContract>): Promise<number> {
  const again = asked ? await db.select({ id: restores.id }).from(restores).where(eq(restores.asked, asked)) : [];
  if (again[0]) return again[0].id;
  checkDestination(whole);
  const { tooLarge } = await rehearseSums(db, jobId, whole);
  const root = destinationRoot(whole);
  const refused = (await refusalFor(db, jobId, root)) ?? refusalOfBag(whole, root) ?? refusalOfStreams(whole) ?? tooLarge;
  if (refused) throw new Problem(refused, 409);
  const started = await db.transaction(async (tx) => {
    // Two presses at once: the second waits here, and finds the tray's files being written.
    await tx.execute(sql`select pg_advisory_xact_lock(7240114, ${jobId})`);
    const [row] = await tx
      .insert(restores)
      .values({
        jobId,
        destination: whole.destination,
        delivery: whole.delivery,
        conflict: whole.conflict,
        layout: whole.layout,
        names: whole.names,
        form: whole.form,
        bagLimit: whole.form === "bag" ? whole.bagLimit : null,
        streams: whole.streams,
        repaired: whole.repaired,
        asFound: whole.asFound,
        asked: asked ?? null,
      })
      .onConflictDoNothing()
      .returning({ id: restores.id });
    if (!row) {
      const [first] = await tx
        .select({ id: restores.id })
        .from(restores)
        .where(eq(restores.asked, asked as string));
      return (first as { id: number }).id;
    }
    const { id } = row;
    const { rowCount } = await tx.execute(sql`
      insert into restore_results (restore_id, item_id, copy_id, stream, path, condition, size, conflict, dated, place_home, place_folder, place_name, number)
      select ${id}, e.item_id, e.copy_id, x.stream, f.path || '/' || x.name, x.condition, x.size, coalesce(k.value, d.value), e.dated, h.id, e.place_folder, e.place_name, dense_rank() over (order by ${NUMBERED_BY})
      from ${trayCopies(jobId)} e join copies c on c.id = e.copy_id join folders f on f.id = c.folder_id
      join items i on i.id = e.item_id
      -- Only a layout with folders has places in them.
      left join homes h on h.id = e.place_home and ${whole.layout === "tree"}
      cross join lateral (
        select null::int as stream, c.name, c.size, c.condition
        union all
        select (s.n - 1)::int, c.name || ' [' || replace(s.stream->>'name', '/', '_') || ']', (s.stream->>'size')::bigint, 'not-checked'
        from jsonb_array_elements(c.streams) with ordinality s(stream, n) where ${whole.streams === "beside"}
        union all
        select ${SECOND}, ${SECOND_FILE} || c.name, 0, 'not-checked' where ${whole.streams === "two-file"} and c.streams is not null
        union all
        select ${REPAIRED}, regexp_replace(c.name, '(\\.[^.]+)?$', ' (repaired)\\1'), c.size, 'not-checked'
        where ${whole.repaired} and ${DOES_NOT_OPEN} and ${WRITABLE}) x
      left join jsonb_each_text(${JSON.stringify(whole.choices)}::jsonb) k on k.key = e.copy_id::text
      left join jsonb_each_text(${JSON.stringify(whole.kinds)}::jsonb) d on d.key = i.kind
      -- What goes beside a file comes when that has got its name.
      order by coalesce(x.stream, 0) < 0 or (x.stream is null and c.name ~ ${COMPANION_PATTERN}), f.path, c.name, e.copy_id, x.stream nulls first`);
    if (whole.streams === "two-file") await sizeSecondFiles(tx, id);
    if (!rowCount) throw await nothingToWrite(tx, jobId);
    if (whole.form === "bag") await assignBags(tx, id, whole.bagLimit);
    await enqueue(tx, "restore", id);
    await note(tx, jobId, "Restore started", { restore: id, files: rowCount, destination: whole.destination, delivery: whole.delivery });
    await announce(tx, jobId);
    return id;
  });
  await refreshStatistics(db, "tray_entries", "restore_results");
  return started;
}

/** Second files whose size is worked out together. */
const AT_ONCE = 2_000;

/** Works out how large the second files of a restore will be, and leaves out those in which nothing would be. */
async function sizeSecondFiles(tx: Pick<Database, "execute">, restoreId: number): Promise<void> {
  for (let after = 0; ; ) {
    const { rows } = await tx.execute<{ id: string; streams: StoredStream[] | null }>(sql`
      select r.id, c.streams from restore_results r join copies c on c.id = r.copy_id
      where r.restore_id = ${restoreId} and r.stream = ${SECOND} and r.id > ${after} order by r.id limit ${AT_ONCE}`);
    const last = rows[rows.length - 1];
    if (!last) return;
    after = Number(last.id);
    const sizes = rows.map(({ id, streams }) => ({ id: Number(id), size: secondFileOf(streams)?.layout.size ?? null }));
    await tx.execute(sql`
      update restore_results r set size = s.size from jsonb_to_recordset(${JSON.stringify(sizes)}::jsonb) as s(id bigint, size bigint)
      where r.id = s.id and s.size is not null`);
    const empty = sizes.flatMap(({ id, size }) => (size === null ? [id] : []));
    if (empty.length > 0) await tx.execute(sql`delete from restore_results where id in ${empty}`);
  }
}

async function nothingToWrite(tx: Pick<Database, "execute">, jobId: number): Promise<Problem> {
  const { rows } = await tx.execute(sql`select 1 from tray_entries where job_id = ${jobId} limit 1`);
  return rows.length > 0
    ? new Problem("What is in the tray is being restored already: its progress is shown above.", 409)
    : new Problem("The tray is empty: choose items first.");
}

/** Tries the failed files of a restore once more; each is judged anew. */
export async function retryRestore(db: Database, restoreId: number): Promise<void> {
  await db.transaction(async (tx) => {
    const [restore] = await tx.select().from(restores).where(eq(restores.id, restoreId)).for("update");
    if (!restore) throw new Problem("There is no such restore.", 404);
    if (restore.state === "queued" || restore.state === "running") throw new Problem("This restore is still running.", 409);
    if (restore.state === "paused") throw new Problem("This restore is paused: let it go on.", 409);
    await tx
      .update(restoreResults)
      .set({ state: "waiting", problem: null, output: null, sha256: null, gaps: null })
      .where(and(eq(restoreResults.restoreId, restoreId), eq(restoreResults.state, "failed")));
    await tx
      .update(restores)
      .set({ state: "queued", wanted: "run", problem: null, finishedAt: null })
      .where(inArray(restores.id, [restoreId]));
    await enqueue(tx, "restore", restoreId);
    await note(tx, restore.jobId, "Restore tried again", { restore: restoreId });
    await announce(tx, restore.jobId);
  });
}

/** Reads all files of a restore again and compares them with what was written, in the background. */
export async function proveRestore(db: Database, restoreId: number): Promise<void> {
  const [restore] = await db.select().from(restores).where(eq(restores.id, restoreId));
  if (!restore) throw new Problem("There is no such restore.", 404);
  if (restore.state === "queued" || restore.state === "running") throw new Problem("This restore is still running.", 409);
  await enqueue(db, "prove", restoreId);
}

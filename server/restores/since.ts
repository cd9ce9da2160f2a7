import { lstat } from "node:fs/promises";
import { and, eq, gt, inArray, isNull, sql } from "drizzle-orm";
import type { Connection } from "../database/connection";
import { jobs, restoreResults, restores } from "../database/schema";
import { announce } from "../workers/queue";
import type { Result } from "./contract";

/** The states of results whose file is at the destination. */
const STANDING: Result["state"][] = ["verified", "gaps", "same"];
export const stands = (state: Result["state"]): boolean => STANDING.includes(state);

type Row = typeof restoreResults.$inferSelect;

/** A file system may keep times no finer than two seconds (FAT). Milliseconds. */
const TIME_GRAIN = 2000;

/** What became of a written file since, by its presence, size and date; null: it stands as it was left. */
async function sinceOf(row: Row): Promise<Row["since"]> {
  if (!stands(row.state)) return null;
  // A later restore wrote another file under this name, and said so.
  if (row.since === "replaced" || !row.output) return row.since;
  const stats = await lstat(row.output).catch(() => null);
  if (!stats?.isFile()) return "gone";
  // A hash that differed is not made good by the size and date being right: reading the file again alone can do that.
  if (row.since === "changed") return "changed";
  return stats.size !== row.size || (row.leftAt !== null && Math.abs(stats.mtimeMs - row.leftAt) > TIME_GRAIN) ? "changed" : null;
}

/** Looks at the files of these results again, and keeps what became of them. */
export async function lookAgain(db: Connection, rows: readonly Row[]): Promise<Row[]> {
  const found = await Promise.all(rows.map(async (row) => ({ ...row, since: await sinceOf(row) })));
  const moved = found.filter((row, index) => row.since !== rows[index]?.since).map(({ id, since }) => ({ id, since }));
  if (moved.length > 0)
    await db.execute(sql`
      update restore_results r set since = m.since from jsonb_to_recordset(${JSON.stringify(moved)}::jsonb) as m(id bigint, since text) where r.id = m.id`);
  return found;
}

/** Results looked at together. */
const AT_ONCE = 200;

/** Looks at every restored file of the jobs that are worked on, and announces the jobs in which something became of one. */
export async function lookAtRestored(db: Connection): Promise<void> {
  const moved = new Set<number>();
  for (let last = 0; ; ) {
    const rows = await db
      .select({ result: restoreResults, jobId: restores.jobId })
      .from(restoreResults)
      .innerJoin(restores, eq(restores.id, restoreResults.restoreId))
      .innerJoin(jobs, eq(jobs.id, restores.jobId))
      .where(and(gt(restoreResults.id, last), inArray(restoreResults.state, STANDING), isNull(jobs.archivedAt)))
      .orderBy(restoreResults.id)
      .limit(AT_ONCE);
    const found = await lookAgain(
      db,
      rows.map(({ result }) => result),
    );
    for (const [index, { since }] of found.entries()) {
      const before = rows[index];
      if (before && before.result.since !== since) moved.add(before.jobId);
    }
    const end = rows[rows.length - 1];
    if (!end) break;
    last = end.result.id;
  }
  for (const jobId of moved) await announce(db, jobId);
}

/** What a restore wrote and nobody replaced since, from the result after `after` on. */
export async function* allWritten(
  db: Connection,
  restoreId: number,
  after: number,
): AsyncGenerator<{ id: number; output: string; sha256: string }, void, void> {
  for (let last = after; ; ) {
    const { rows } = await db.execute<{ id: string; output: string; sha256: string }>(sql`
      select id, output, sha256 from restore_results where restore_id = ${restoreId} and id > ${last} and state in ('verified', 'gaps', 'same')
        and since is distinct from 'replaced' and output is not null and sha256 is not null order by id limit 100`);
    for (const row of rows) yield { ...row, id: Number(row.id) };
    const end = rows[rows.length - 1];
    if (!end) return;
    last = Number(end.id);
  }
}

/** What reading a restored file again came to. */
interface Proof extends Pick<Row, "since" | "fromDevice"> {
  readonly resultId: number;
}

/** Keeps what reading a restored file again came to; without one, that all of the restore was read. */
export async function keepProof(db: Connection, restoreId: number, proof: Proof | null): Promise<void> {
  if (proof)
    await db.update(restoreResults).set({ since: proof.since, fromDevice: proof.fromDevice }).where(eq(restoreResults.id, proof.resultId));
  const { rows } = await db.execute<{ job_id: number }>(sql`
    update restores set proven_at = case when ${proof === null} then now() else proven_at end where id = ${restoreId} returning job_id`);
  if (rows[0]) await announce(db, rows[0].job_id, proof ? "settled" : "changed");
}

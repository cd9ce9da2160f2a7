import { stat } from "node:fs/promises";
import { sql } from "drizzle-orm";
import type { Connection } from "../database/connection";
import { readSettings } from "../settings";

/** Flags of work that say what it reads: one source, or those of a job. */
export const flagOfSource = (sourceId: number): string => `source:${sourceId}`;
export const flagOfJob = (jobId: number): string => `job:${jobId}`;

/** Sources that are looked for at most, the newest. */
const MOST_SOURCES = 5_000;
/** A drive that does not answer so soon is not seen. Milliseconds. */
const PATIENCE_MS = 1_500;

export interface SourceOfJob {
  readonly id: number;
  readonly jobId: number;
}

/**
 * Works out which work a worker leaves to others: what reads a source that another one sees and it does not, and what reads the sources of a job
 * of which another one sees more.
 * @param others what each other worker sees; null: it has not looked yet, and may see all
 */
export function leftToOthers(
  sources: readonly SourceOfJob[],
  mine: ReadonlySet<number>,
  others: readonly (ReadonlySet<number> | null)[],
): string[] {
  const flags: string[] = [];
  const byJob = new Map<number, number[]>();
  for (const { id, jobId } of sources) {
    byJob.set(jobId, [...(byJob.get(jobId) ?? []), id]);
    if (!mine.has(id) && others.some((sees) => sees === null || sees.has(id))) flags.push(flagOfSource(id));
  }
  for (const [jobId, ids] of byJob) {
    const seenBy = (sees: ReadonlySet<number> | null) => (sees === null ? ids.length : ids.filter((id) => sees.has(id)).length);
    const own = seenBy(mine);
    if (others.some((sees) => seenBy(sees) > own)) flags.push(flagOfJob(jobId));
  }
  return flags;
}

/** Looks which sources this host sees, keeps that with the worker, and works out what it leaves to workers on other hosts. One alone leaves nothing. */
export async function workToLeave(db: Connection, me: { readonly id: string; readonly host: string }): Promise<string[]> {
  const { rows: others } = await db.execute<{ sees: number[] | null }>(sql`
    select sees from workers where host <> ${me.host} and last_seen >= now() - make_interval(secs => ${readSettings().COMPASS_DEAD_AFTER})`);
  if (others.length === 0) return [];
  const { rows: sources } = await db.execute<{ id: number; job_id: number; path: string }>(
    sql`select id, job_id, path from sources order by id desc limit ${MOST_SOURCES}`,
  );
  const there = await Promise.all(sources.map(({ path }) => isThere(path)));
  const seen = sources.filter((_, index) => there[index]).map(({ id }) => id);
  await db.execute(
    sql`update workers set sees = array(select jsonb_array_elements_text(${JSON.stringify(seen)}::jsonb)::int) where id = ${me.id}`,
  );
  return leftToOthers(
    sources.map(({ id, job_id }) => ({ id, jobId: job_id })),
    new Set(seen),
    others.map(({ sees }) => sees && new Set(sees)),
  );
}

async function isThere(path: string): Promise<boolean> {
  let timer: NodeJS.Timeout | undefined;
  const late = new Promise<false>((done) => {
    timer = setTimeout(done, PATIENCE_MS, false);
  });
  const found = stat(path).then(
    () => true,
    () => false,
  );
  return Promise.race([found, late]).finally(() => clearTimeout(timer));
}

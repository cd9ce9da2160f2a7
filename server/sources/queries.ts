import { existsSync } from "node:fs";
import { asc, eq, inArray, sql } from "drizzle-orm";
import { diskRuns } from "../../core/bytes/layout";
import { decodeLayout } from "../../core/bytes/layout-code";
import type { Connection } from "../database/connection";
import { sources, volumes } from "../database/schema";
import type { Finds, Owner, Source } from "./contract";

export async function listSources(db: Connection, jobId: number): Promise<Source[]> {
  const rows = await db.select().from(sources).where(eq(sources.jobId, jobId)).orderBy(asc(sources.id));
  const ids = rows.map((row) => row.id);
  const inThem = ids.length > 0 ? await db.select().from(volumes).where(inArray(volumes.sourceId, ids)).orderBy(asc(volumes.number)) : [];
  return rows.map((row) => ({
    id: row.id,
    path: row.path,
    name: row.name,
    size: row.size,
    container: row.container,
    tableKind: row.tableKind,
    connected: existsSync(row.path),
    notes: row.notes,
    volumes: inThem
      .filter((volume) => volume.sourceId === row.id)
      .map(({ sourceId: _, usage, ...volume }) => ({
        ...volume,
        usage: usage ? [...usage] : [],
        findings: volume.findings.map((finding) => ({ ...finding, examples: [...finding.examples] })),
      })),
  }));
}

/** How many marks the chart of one source is given at most. */
const MAX_FINDS = 4000;

/** Where lost copies begin on each source of the job. */
export async function listFinds(db: Connection, jobId: number): Promise<Finds> {
  const { rows } = await db.execute<{ source_id: number; at: number[] }>(sql`
    select v.source_id, array_agg(f.at order by f.at) as at
    from (select volume_id, first_at as at from copies
          where job_id = ${jobId} and state = 'deleted' and first_at is not null limit ${MAX_FINDS}) f
    join volumes v on v.id = f.volume_id
    group by v.source_id`);
  return rows.map((row) => ({ sourceId: row.source_id, at: row.at.map(Number) }));
}

/** Files that begin before the byte in question and are looked at; one in many pieces may begin far off and is missed. */
const NEAREST = 200;

/** Which found file's content holds a byte of the disk, the live one before a lost one. */
export async function findOwner(db: Connection, jobId: number, sourceId: number, at: number): Promise<Owner> {
  const { rows } = await db.execute<{ id: string; item_id: string; name: string; folder: string; state: string; layout: Buffer }>(sql`
    select c.id, c.item_id, c.name, f.path as folder, c.state, c.layout
    from volumes v cross join lateral (
      select * from copies where volume_id = v.id and job_id = ${jobId} and first_at <= ${at} and layout is not null and item_id is not null
      order by first_at desc limit ${NEAREST}) c
    join folders f on f.id = c.folder_id where v.source_id = ${sourceId}`);
  const holding = rows.filter((row) => diskRuns(decodeLayout(row.layout)).some((run) => at >= run.at && at < run.at + run.length));
  const found = holding.find((row) => row.state === "live") ?? holding[0];
  return found
    ? { itemId: Number(found.item_id), copyId: Number(found.id), name: found.name, folder: found.folder, live: found.state === "live" }
    : null;
}

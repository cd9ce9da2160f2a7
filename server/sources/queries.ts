import { existsSync } from "node:fs";
import { asc, eq, inArray, sql } from "drizzle-orm";
import type { Connection } from "../database/connection";
import { sources, volumes } from "../database/schema";
import type { Finds, Source } from "./contract";
import { missingDrive } from "./drives";

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
    connected: existsSync(row.path) && missingDrive(row) === null,
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

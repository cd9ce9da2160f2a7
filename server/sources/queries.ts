import { existsSync } from "node:fs";
import { asc, eq, inArray, sql } from "drizzle-orm";
import type { Connection } from "../database/connection";
import { sourceFolders, sources, stores } from "../database/schema";
import { setKey } from "../passes/copy-rows";
import type { Finds, Source } from "./contract";
import { missingDrive } from "./drives";

/** Paths of the folders that were put on the list of source folders by hand, oldest first. */
export async function listFolders(db: Connection): Promise<string[]> {
  const rows = await db
    .select({ path: sourceFolders.path })
    .from(sourceFolders)
    .orderBy(asc(sourceFolders.addedAt), asc(sourceFolders.path));
  return rows.map(({ path }) => path);
}

export async function listSources(db: Connection, jobId: number): Promise<Source[]> {
  const rows = await db.select().from(sources).where(eq(sources.jobId, jobId)).orderBy(asc(sources.id));
  const ids = rows.map((row) => row.id);
  const inThem = ids.length > 0 ? await db.select().from(stores).where(inArray(stores.sourceId, ids)).orderBy(asc(stores.number)) : [];
  return rows.map((row) => ({
    id: row.id,
    path: row.path,
    within: row.within.map(({ path }) => path),
    parentStoreId: row.parentStoreId,
    name: row.name,
    size: row.size,
    container: row.container,
    tableKind: row.tableKind,
    connected: existsSync(row.path) && missingDrive(row) === null,
    unreadable: row.unreadable,
    notes: row.notes,
    volumes: inThem
      .filter((volume) => volume.sourceId === row.id)
      .map(({ sourceId: _, usage, identity, ...volume }) => ({
        ...volume,
        part: identity?.part ?? null,
        usage: usage ? [...usage] : [],
        sets: volume.sets.map(({ id = null, ...set }) => ({ ...set, key: id === null ? null : setKey(id), notes: [...set.notes] })),
        findings: volume.findings.map((finding) => ({ ...finding, examples: [...finding.examples] })),
      })),
  }));
}

/** How many marks the chart of one source is given at most. */
const MAX_FINDS = 4000;

/** Where lost copies begin on each source of the job. */
export async function listFinds(db: Connection, jobId: number): Promise<Finds> {
  const { rows } = await db.execute<{ source_id: number; count: number; at: number[] }>(sql`
    select source_id, max(n)::int as count, array_agg(at order by at) as at
    from (select v.source_id, c.first_at as at, row_number() over (partition by v.source_id order by c.first_at) as n,
            count(*) over (partition by v.source_id) as total
          from copies c join stores v on v.id = c.store_id
          where c.job_id = ${jobId} and (c.state = 'deleted' or (c.place = 'backup' and c.evidence->>'kept' is not null)) and c.first_at is not null) f
    -- Of very many every so manieth is given, so that none of the disk looks empty that is not.
    where n % greatest(1, ceil(total::float8 / ${MAX_FINDS})::int) = 0 or n = total
    group by source_id`);
  return rows.map((row) => ({ sourceId: row.source_id, count: row.count, at: row.at.map(Number) }));
}

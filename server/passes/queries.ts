import { asc, eq, sql } from "drizzle-orm";
import type { Connection } from "../database/connection";
import { passes, sources, volumes } from "../database/schema";
import type { Pass, VolumeKinds } from "./contract";

export async function listPasses(db: Connection, jobId: number): Promise<Pass[]> {
  const rows = await db
    .select({ pass: passes, sourceName: sources.name, number: volumes.number, label: volumes.label })
    .from(passes)
    .innerJoin(sources, eq(sources.id, passes.sourceId))
    .innerJoin(volumes, eq(volumes.id, passes.volumeId))
    .where(eq(passes.jobId, jobId))
    .orderBy(asc(passes.id));
  return rows.map(({ pass, sourceName, number, label }) => ({
    ...pass,
    place: pass.place as Pass["place"],
    sourceName,
    volumeLabel: label ?? `volume ${number}`,
  }));
}

/** What was found lost on each volume, by place and by kind, the most first. */
export async function countKinds(db: Connection, jobId: number): Promise<VolumeKinds> {
  const { rows } = await db.execute<{ volume_id: number; place: string; kind: string; count: number }>(sql`
    select volume_id, unnest(places) as place, kind, count(*)::int as count from items where job_id = ${jobId} and lost group by 1, 2, 3 order by 4 desc`);
  return rows.map((row) => ({ volumeId: row.volume_id, place: row.place, kind: row.kind, count: row.count }));
}

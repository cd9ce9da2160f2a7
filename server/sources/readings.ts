import { eq, sql } from "drizzle-orm";
import type { VolumeReading } from "../../core/volumes/reading";
import type { Database } from "../database/connection";
import { sources, volumes } from "../database/schema";
import { announce } from "../workers/queue";
import { SOURCE_AT } from "./source-at";

/** A volume with what is needed to read it. */
export async function findVolume(db: Database, volumeId: number) {
  const [found] = await db
    .select({
      volume: volumes,
      ...SOURCE_AT,
      jobId: sources.jobId,
    })
    .from(volumes)
    .innerJoin(sources, eq(sources.id, volumes.sourceId))
    .where(eq(volumes.id, volumeId));
  if (!found) return null;
  const { volume, ...source } = found;
  const { offset, length, filesystem } = volume;
  return { ...source, volume: { offset, length, filesystem } };
}

export async function storeReading(db: Database, jobId: number, volumeId: number, reading: VolumeReading): Promise<void> {
  await db
    .update(volumes)
    .set({ findings: [...reading.findings], profiles: [...reading.profiles], readingAt: sql`now()` })
    .where(eq(volumes.id, volumeId));
  await announce(db, jobId);
}

import { eq, sql } from "drizzle-orm";
import type { VolumeReading } from "../../core/volumes/reading";
import type { Database } from "../database/connection";
import { sources, stores } from "../database/schema";
import { announce } from "../workers/queue";
import { SOURCE_AT } from "./source-at";

/** A volume with what is needed to read it. */
export async function findVolume(db: Database, storeId: number) {
  const [found] = await db
    .select({
      volume: stores,
      ...SOURCE_AT,
      jobId: sources.jobId,
    })
    .from(stores)
    .innerJoin(sources, eq(sources.id, stores.sourceId))
    .where(eq(stores.id, storeId));
  if (!found) return null;
  const { volume, ...source } = found;
  const { offset, length, filesystem, view } = volume;
  return { ...source, volume: { offset, length, filesystem, view } };
}

export async function storeReading(db: Database, jobId: number, storeId: number, reading: VolumeReading): Promise<void> {
  await db
    .update(stores)
    .set({ findings: [...reading.findings], profiles: [...reading.profiles], readingAt: sql`now()` })
    .where(eq(stores.id, storeId));
  await announce(db, jobId);
}

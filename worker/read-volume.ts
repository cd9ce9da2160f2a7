import type { VolumeReading } from "../core/volumes/reading";
import type { Database } from "../server/database/connection";
import { log } from "../server/log/logger";
import { findVolume, storeReading } from "../server/sources/readings";
import type { ReadingThreadData } from "./reading-thread";
import { askThread, startThread } from "./thread";

/** Reads a volume for what does not add up in it and for the profiles on it, and stores that with it. */
export async function readWholeVolume(db: Database, storeId: number): Promise<void> {
  const found = await findVolume(db, storeId);
  if (!found) return;
  const { jobId, ...data } = found;
  const thread = startThread("reading-thread", data satisfies ReadingThreadData);
  try {
    const reading = await askThread<VolumeReading>(thread, "read");
    await storeReading(db, jobId, storeId, reading);
  } catch (error) {
    // The files are stored already; a volume that cannot be read a second time only lacks what this would have given.
    log.error({ volume: storeId, error: (error as Error).message }, "the reading of a volume failed");
  } finally {
    await thread.terminate();
  }
}

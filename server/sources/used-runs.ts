import { and, eq } from "drizzle-orm";
import { FileSystemError } from "../../core/filesystems/file-record";
import type { FileSystemName } from "../../core/filesystems/names";
import { openVolume } from "../../core/volumes/inspect";
import type { Connection } from "../database/connection";
import { sources, stores } from "../database/schema";
import { openPermitted } from "../previews/content";
import { Problem } from "../problem";
import { SOURCE_AT } from "./source-at";

/** More stretches than this are no more to be distinguished on a screen. */
const MOST_RUNS = 50_000;
/** Clusters looked at for one answer. */
const MOST_CLUSTERS = 1 << 24;

/** The stretches in use between two bytes of a source, by its volumes' own maps; null when there are too many to draw singly. */
export async function usedRuns(db: Connection, jobId: number, sourceId: number, start: number, end: number): Promise<number[] | null> {
  const rows = await db
    .select({
      volume: stores,
      ...SOURCE_AT,
      container: sources.container,
    })
    .from(stores)
    .innerJoin(sources, eq(sources.id, stores.sourceId))
    .where(and(eq(sources.id, sourceId), eq(sources.jobId, jobId)));
  const [first] = rows;
  if (!first) throw new Problem("There is no such source in this job.", 404);
  if (first.container === "folder") return [];
  const { disk, close } = openPermitted({ ...first, sourceId, file: null });
  const runs: number[] = [];
  try {
    for (const { volume } of rows) {
      if (!volume.readable || volume.offset >= end || volume.offset + volume.length <= start) continue;
      try {
        const opened = openVolume(disk, { ...volume, filesystem: volume.filesystem as FileSystemName });
        const { allocation, allocationStart, clusterSize } = opened;
        if (!allocation) continue;
        const from = Math.max(0, Math.floor((start - allocationStart) / clusterSize));
        const to = Math.min(allocation.clusters, Math.ceil((end - allocationStart) / clusterSize));
        if (to - from > MOST_CLUSTERS) return null;
        for (const range of allocation.usedWithin(from, to - from))
          runs.push(allocationStart + range.start * clusterSize, (range.end - range.start) * clusterSize);
        if (runs.length > 2 * MOST_RUNS) return null;
      } catch (error) {
        if (!(error instanceof FileSystemError)) throw error;
      }
    }
  } finally {
    close();
  }
  return runs;
}

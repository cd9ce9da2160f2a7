import { runTask } from "../server/content/pool";
import type { Database } from "../server/database/connection";
import { findStoredCopy, lostPictures } from "../server/items/queries";
import { thumbnail } from "../server/previews/pictures";
import { enqueue } from "../server/workers/queue";

const SLICE_MS = 20_000;
const PART = 100;

/** Makes the small pictures of a job's lost pictures beforehand; those made already are passed over quickly. */
export async function makeThumbnails(db: Database, jobId: number, stopping: () => boolean): Promise<void> {
  const end = Date.now() + SLICE_MS;
  for (let after = 0; ; ) {
    const ids = await lostPictures(db, jobId, after, PART);
    if (ids.length === 0) return;
    for (const id of ids) {
      if (stopping() || Date.now() > end) return enqueue(db, "thumbnails", jobId);
      const copy = await findStoredCopy(db, id);
      // One that cannot be drawn is reported when it is looked at.
      if (copy?.layout) await thumbnail(db, copy.id, (copyId) => runTask("thumbnail", [copyId])).catch(() => undefined);
      after = id;
    }
  }
}

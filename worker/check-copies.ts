import type { Database } from "../server/database/connection";
import { checkCopy, copiesToCheck } from "../server/items/check";
import { enqueue } from "../server/workers/queue";

const SLICE_MS = 20_000;
const PART = 50;

/** Looks at the contents of the copies that were asked for: those in the tray, and those somebody wanted checked. */
export async function checkCopies(db: Database, jobId: number, stopping: () => boolean): Promise<void> {
  const end = Date.now() + SLICE_MS;
  for (;;) {
    const part = await copiesToCheck(db, jobId, PART);
    if (part.length === 0) return;
    for (const copyId of part) {
      if (stopping() || Date.now() > end) return enqueue(db, "check", jobId);
      await checkCopy(db, jobId, copyId);
    }
  }
}

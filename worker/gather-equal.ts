import type { Database } from "../server/database/connection";
import { hashOfCopy, itemsWithoutFolder, joinSameRecords, possiblyEqual } from "../server/items/equal-content";
import { joinItems } from "../server/items/join";
import { enqueue } from "../server/workers/queue";

const SLICE_MS = 20_000;
const PART = 50;

/**
 * Gathers copies whose folder is not known under the item that holds the same bytes. Sizes are compared first, then hashes.
 * @param from the item after which to go on
 */
export async function gatherEqual(db: Database, jobId: number, from: number, stopping: () => boolean): Promise<void> {
  const end = Date.now() + SLICE_MS;
  const hashOf = (copyId: number) => hashOfCopy(db, copyId);
  if (from === 0) await joinSameRecords(db, jobId);
  for (let after = from; ; ) {
    const part = await itemsWithoutFolder(db, jobId, after, PART);
    const pairs = part.length > 0 ? await possiblyEqual(db, jobId, part) : [];
    for (const itemId of part) {
      // What was compared is not compared again: the next slice goes on behind it.
      if (stopping() || Date.now() > end) return enqueue(db, "equals", jobId, { from: after });
      for (const pair of pairs) {
        if (pair.itemId !== itemId) continue;
        const own = await hashOf(pair.copyId);
        if (own === null) break;
        if (own !== (await hashOf(pair.knownCopyId))) continue;
        await joinItems(db, jobId, pair.itemId, pair.knownItemId, "Gathered here because its content is the same, byte for byte.");
        break;
      }
      after = itemId;
    }
    if (part.length < PART) return;
  }
}

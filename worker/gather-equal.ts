import { createHash } from "node:crypto";
import { readBytes } from "../core/bytes/byte-source";
import type { Database } from "../server/database/connection";
import { itemsWithoutFolder, possiblyEqual } from "../server/items/equal-content";
import { joinItems } from "../server/items/join";
import { findStoredCopy } from "../server/items/queries";
import { withContent } from "../server/previews/content";
import { enqueue } from "../server/workers/queue";

const SLICE_MS = 20_000;
const PART = 50;
const STEP = 1 << 20;
/** Hashes kept while a part is worked on. */
const MOST_KEPT = 10_000;

/**
 * Gathers copies whose folder is not known under the item that holds the same bytes. Sizes are compared first, then hashes.
 * @param from the item after which to go on
 */
export async function gatherEqual(db: Database, jobId: number, from: number, stopping: () => boolean): Promise<void> {
  const end = Date.now() + SLICE_MS;
  const hashes = new Map<number, string | null>();
  const hashOf = async (copyId: number): Promise<string | null> => {
    const kept = hashes.get(copyId);
    if (kept !== undefined) return kept;
    const hash = await contentHash(db, copyId);
    if (hashes.size < MOST_KEPT) hashes.set(copyId, hash);
    return hash;
  };
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

async function contentHash(db: Database, copyId: number): Promise<string | null> {
  const copy = await findStoredCopy(db, copyId);
  if (!copy?.layout) return null;
  const hash = createHash("sha256");
  try {
    return await withContent(copy, (content) => {
      for (let at = 0; at < content.size; at += STEP) hash.update(readBytes(content, at, Math.min(STEP, content.size - at)));
      return hash.digest("hex");
    });
  } catch {
    // A source that is not connected now tells nothing; the next pass asks again.
    return null;
  }
}

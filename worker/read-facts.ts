import type { CopyFacts } from "../core/copies/facts";
import { runTask } from "../server/content/pool";
import type { Database } from "../server/database/connection";
import { copiesWithoutFacts, KINDS_WITH_FACTS, keepFacts, namelessKinds, tieByFacts } from "../server/items/facts";
import { enqueue } from "../server/workers/queue";

const SLICE_MS = 10_000;
const PART = 50;

/** Where a slice goes on: whether lost files are done and live ones are asked, and behind which item. */
export interface FactsFrom {
  readonly live?: number;
  readonly from?: number;
}

/**
 * Asks pictures, documents and recordings what they are: lost ones first, then live ones of the kinds of which there is content
 * without a name to be tied to them. Then ties it.
 */
export async function readFacts(db: Database, jobId: number, { live = 0, from = 0 }: FactsFrom, stopping: () => boolean): Promise<void> {
  const end = Date.now() + SLICE_MS;
  for (const lost of live ? [false] : [true, false]) {
    const kinds = lost ? KINDS_WITH_FACTS : await namelessKinds(db, jobId);
    if (kinds.length === 0) break;
    for (let after = lost === !live ? from : 0; ; ) {
      const part = await copiesWithoutFacts(db, jobId, { lost, kinds, after, limit: PART });
      const read: { copyId: number; facts: CopyFacts }[] = [];
      let asked = 0;
      for (const { itemId, copyId } of part) {
        if (stopping() || Date.now() > end) break;
        // A source that is not connected is asked another time.
        const facts = await runTask("facts", [copyId]).catch(() => null);
        if (facts) read.push({ copyId, facts });
        after = itemId;
        asked += 1;
      }
      await keepFacts(db, jobId, read);
      // What was asked is not asked again, not even what could not be answered: the next slice goes on behind it.
      if (asked < part.length) return enqueue(db, "facts", jobId, { live: lost ? 0 : 1, from: after });
      if (part.length < PART) break;
    }
  }
  await tieByFacts(db, jobId);
}

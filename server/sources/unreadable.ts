import { eq } from "drizzle-orm";
import { type Range, RangeSet } from "../../core/bytes/range-set";
import type { Connection } from "../database/connection";
import { sources } from "../database/schema";

/** Keeps what could not be read of a source, beside what is known already. @param ranges disk byte offsets */
export async function noteUnreadable(db: Connection, sourceId: number, ranges: readonly Range[]): Promise<void> {
  if (ranges.length === 0) return;
  const [row] = await db.select({ unreadable: sources.unreadable }).from(sources).where(eq(sources.id, sourceId)).for("update");
  if (!row) return;
  const known = RangeSet.from(row.unreadable);
  const before = known.total;
  for (const { start, end } of ranges) known.add(start, end);
  if (known.total > before)
    await db
      .update(sources)
      .set({ unreadable: [...known.ranges] })
      .where(eq(sources.id, sourceId));
}

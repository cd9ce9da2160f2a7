import { sql } from "drizzle-orm";
import type { Database } from "../database/connection";
import { note } from "../log/commands";
import { BEST_FIRST, OPENS } from "../passes/best-copy";
import { Problem } from "../problem";
import { announce } from "../workers/queue";

/** Takes this copy of an item for its best, or (null) the one the bench thinks best again. */
export async function chooseCopy(db: Database, itemId: number, copyId: number | null): Promise<void> {
  await db.transaction(async (tx) => {
    const wanted = copyId === null ? sql`true` : sql`c.id = ${copyId}`;
    const { rows } = await tx.execute<{ job_id: number; name: string }>(sql`
      update items set best_copy_id = b.id, size = b.size, modified = b.modified, condition = b.condition, survival = b.survival,
        live = b.state = 'live', created = b.created, deleted_at = b.deleted_at, facts = b.facts, opens = ${sql.raw(OPENS("b"))},
        overruled = ${copyId !== null}
      from (select c.* from copies c where c.item_id = ${itemId} and ${wanted} order by ${sql.raw(BEST_FIRST)} limit 1) b
      where items.id = b.item_id returning items.job_id, items.name`);
    const [item] = rows;
    if (!item) throw new Problem("This item has no such copy.", 404);
    await note(tx, item.job_id, copyId === null ? "Copy left to the bench" : "Copy chosen by hand", { item: item.name, copy: copyId });
    await announce(tx, item.job_id);
  });
}

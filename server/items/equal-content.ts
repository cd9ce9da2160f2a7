import { sql } from "drizzle-orm";
import type { Connection } from "../database/connection";

/** An item whose folder is not known any more, and one of a known file with as many bytes. */
export interface EqualPair {
  readonly copyId: number;
  readonly itemId: number;
  readonly knownCopyId: number;
  readonly knownItemId: number;
}

/** Copies beyond this of one size prove little by their size alone; they are left as they are. */
const MOST_OF_A_SIZE = 40;

/** Items of which only the record is known (no folder, so nothing to gather them by), from the one after `after` on. */
export async function itemsWithoutFolder(db: Connection, jobId: number, after: number, limit: number): Promise<number[]> {
  const { rows } = await db.execute<{ id: string }>(sql`
    select i.id from items i
    where i.folder_id = any(array(select id from folders where job_id = ${jobId} and path like '/?%'))
      and i.size > 0 and i.condition <> 'name-only' and i.id > ${after}
    order by i.id limit ${limit}`);
  return rows.map((row) => Number(row.id));
}

/** What of these items may hold the same bytes as an item with a place: it has as many. */
export async function possiblyEqual(db: Connection, jobId: number, itemIds: readonly number[]): Promise<EqualPair[]> {
  const ids = sql.raw(`'{${itemIds.map(Math.trunc).join(",")}}'::bigint[]`);
  const { rows } = await db.execute<Record<"copy_id" | "item_id" | "known_copy_id" | "known_item_id", string>>(sql`
    select i.best_copy_id as copy_id, i.id as item_id, k.best_copy_id as known_copy_id, k.id as known_item_id
    from items i
    cross join lateral (
      select k.id, k.best_copy_id from items k join folders f on f.id = k.folder_id
      where k.job_id = i.job_id and k.size = i.size and k.id <> i.id and k.condition <> 'name-only' and f.path not like '/?%'
      order by k.id limit ${MOST_OF_A_SIZE}) k
    where i.job_id = ${jobId} and i.id = any(${ids})
    order by 2, 4`);
  return rows.map((row) => ({
    copyId: Number(row.copy_id),
    itemId: Number(row.item_id),
    knownCopyId: Number(row.known_copy_id),
    knownItemId: Number(row.known_item_id),
  }));
}

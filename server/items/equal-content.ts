import { sql } from "drizzle-orm";
import { runTask } from "../content/pool";
import type { Connection, Database } from "../database/connection";
import { joinItems } from "./join";

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

/** SHA-256 of a copy's content, computed once and kept; null where it cannot be read now: the next pass asks again. */
export async function hashOfCopy(db: Connection, copyId: number): Promise<string | null> {
  const { rows } = await db.execute<{ sha256: string | null }>(
    sql`select encode(sha256, 'hex') as sha256 from copies where id = ${copyId}`,
  );
  const kept = rows[0]?.sha256;
  if (kept) return kept;
  const hash = await runTask("hash", [copyId]).catch(() => null);
  if (hash) await db.execute(sql`update copies set sha256 = decode(${hash}, 'hex') where id = ${copyId}`);
  return hash;
}

/** Two items that are one file. */
interface Pair extends Record<string, unknown> {
  readonly item_id: string;
  readonly known_item_id: string;
}

async function joinAll(db: Database, jobId: number, pairs: readonly Pair[], why: string): Promise<void> {
  for (const pair of pairs) await joinItems(db, jobId, Number(pair.item_id), Number(pair.known_item_id), why);
}

/** Raw content that was found before the record that leads to it: it stands in the very clusters of that record's file, and is as long. */
async function joinRawContent(db: Database, jobId: number): Promise<void> {
  const { rows } = await db.execute<Pair>(sql`
    select distinct on (b.item_id) b.item_id, a.item_id as known_item_id
    from copies b cross join lateral (
      -- A row each, so that the database never goes the other way about: from the many that were not found raw.
      select a.item_id, a.state, a.id from copies a
      where a.store_id = b.store_id and a.first_at = b.first_at and a.size = b.size and a.job_id = b.job_id
        and a.place <> 'raw' and a.item_id is not null and a.item_id <> b.item_id and a.span is not distinct from b.span
      order by (a.state = 'deleted') desc, a.id limit 1) a
    where b.job_id = ${jobId} and b.place = 'raw' and b.item_id is not null and b.facts->>'inside' is null
    order by b.item_id, (a.state = 'deleted') desc, a.id`);
  await joinAll(db, jobId, rows, "Found by its content at the very place of the record’s file.");
}

/**
 * A file in a bin, and any deleted one that a known place names, was found twice: under the path the client knew, and by its record where
 * it really stands. It is one file: the item of the record joins that of the place.
 */
export async function joinSameRecords(db: Database, jobId: number): Promise<void> {
  await joinRawContent(db, jobId);
  const { rows } = await db.execute<Pair>(sql`
    select distinct on (b.item_id) b.item_id, a.item_id as known_item_id
    from copies a join copies b on b.store_id = a.store_id and b.reference = a.reference and b.job_id = a.job_id and b.item_id <> a.item_id
    where a.job_id = ${jobId} and a.rule is not null and a.condition <> 'name-only' and b.rule is null and b.place <> 'raw'
      and (a.place = 'bin' or b.state = 'deleted') and b.name = regexp_replace(a.found_path, '^.*/', '')
    order by b.item_id, a.id`);
  await joinAll(db, jobId, rows, "The same record, found where it stands in the folder of the place.");
}

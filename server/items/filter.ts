import { type SQL, sql } from "drizzle-orm";
import type { Connection } from "../database/connection";
import { type ItemFilter, SIZES, type SizeClass } from "./contract";

/** Folders whose path holds a word; more than this and the word is no help in folders. */
const MAX_FOLDERS = 2000;
const MAX_WORDS = 12;

/** The words of a search: parts in double quotes stay together; a quote not closed yet reaches to the end. */
export function searchWords(query: string): string[] {
  return [...query.matchAll(/"([^"]*)"?|([^\s"]+)/g)]
    .map((match) => (match[1] ?? match[2] ?? "").trim())
    .filter(Boolean)
    .slice(0, MAX_WORDS);
}

const escaped = (word: string) => word.replace(/[\\%_]/g, "\\$&");
const intArray = (ids: readonly number[]) => sql.raw(`'{${ids.map(Math.trunc).join(",")}}'::int[]`);

/** A word beginning with a dot means the extension; any other may stand in the name or in the path of the folder. */
async function wordCondition(db: Connection, jobId: number, word: string): Promise<SQL> {
  if (/^\.[^.\s]+$/.test(word)) return sql`i.name ilike ${`%${escaped(word)}`}`;
  const pattern = `%${escaped(word)}%`;
  const { rows } = await db.execute<{ id: number }>(
    sql`select id from folders where job_id = ${jobId} and path ilike ${pattern} limit ${MAX_FOLDERS}`,
  );
  const inFolders = rows.length > 0 ? sql` or i.folder_id = any(${intArray(rows.map((row) => row.id))})` : sql``;
  return sql`(i.name ilike ${pattern}${inFolders})`;
}

/** The year of the last change in the job's time zone, or "none". */
export const yearOf = (jobId: number) =>
  sql`coalesce(extract(year from i.modified at time zone (select time_zone from jobs where id = ${jobId}))::text, 'none')`;

/** The class of an item's size. */
export const sizeClassOf = sql.raw(
  `case ${Object.entries(SIZES)
    .map(([word, most]) => `when i.size <= ${most} then '${word}'`)
    .join(" ")} end`,
);

function sizeCondition(size: SizeClass): SQL {
  const names = Object.keys(SIZES) as SizeClass[];
  const below = names[names.indexOf(size) - 1];
  return sql`i.size > ${below === undefined ? -1 : SIZES[below]} and i.size <= ${SIZES[size]}`;
}

/**
 * The condition on `items i` that a filter means.
 * @param without one way of narrowing to leave out
 */
export async function filterCondition(db: Connection, jobId: number, filter: ItemFilter, without?: keyof ItemFilter): Promise<SQL> {
  const parts: SQL[] = [sql`i.job_id = ${jobId}`];
  const used: Partial<ItemFilter> = { ...filter };
  if (without) delete used[without];
  const { kind, place, condition, folder, year, size, originals } = used;
  if (filter.show === "lost") parts.push(sql`i.lost`);
  if (kind) parts.push(sql`i.kind = ${kind}`);
  if (place) parts.push(sql`${place} = any(i.places)`);
  if (condition) parts.push(sql`i.condition = ${condition}`);
  if (folder)
    parts.push(
      sql`i.folder_id in (select id from folders where job_id = ${jobId} and (path = ${folder} or path like ${`${escaped(folder)}/%`}))`,
    );
  if (year) parts.push(sql`${yearOf(jobId)} = ${year}`);
  if (size) parts.push(sizeCondition(size));
  if (originals) parts.push(sql`i.facts->>'inside' is null`);
  for (const word of searchWords(filter.q)) parts.push(await wordCondition(db, jobId, word));
  return sql.join(parts, sql` and `);
}

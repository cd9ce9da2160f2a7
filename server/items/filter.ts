import { type SQL, sql } from "drizzle-orm";
import type { Connection } from "../database/connection";
import { Problem } from "../problem";
import { type ItemFilter, type Scope, SIZES, type SizeClass } from "./contract";
import { inScope, shownValue, sinceAt, versionAt } from "./moments";

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

/** A text as part of a LIKE pattern that means itself. */
export const escaped = (word: string) => word.replace(/[\\%_]/g, "\\$&");
const intArray = (ids: readonly number[]) => sql.raw(`'{${ids.map(Math.trunc).join(",")}}'::int[]`);

/** A pattern with `*` for any letters and `?` for one, which means the whole name. */
export const isGlob = (word: string): boolean => /[*?]/.test(word);
export const globPattern = (word: string): string => escaped(word).replace(/\*+/g, "%").replaceAll("?", "_");

/**
 * A word beginning with a dot means the extension, one with `*` or `?` is a pattern of the whole name; any other may stand in the name or in
 * the path of the folder. Accents and capitals make no difference.
 */
async function wordCondition(db: Connection, jobId: number, word: string): Promise<SQL> {
  const named = (pattern: string) => sql`plain_words(i.name) ilike plain_words(${pattern})`;
  if (isGlob(word)) return named(globPattern(word));
  if (/^\.[^.\s]+$/.test(word)) return named(`%${escaped(word)}`);
  const pattern = `%${escaped(word)}%`;
  const { rows } = await db.execute<{ id: number }>(
    sql`select id from folders where job_id = ${jobId} and plain_words(path) ilike plain_words(${pattern}) limit ${MAX_FOLDERS}`,
  );
  const inFolders = rows.length > 0 ? sql` or i.folder_id = any(${intArray(rows.map((row) => row.id))})` : sql``;
  return sql`(${named(pattern)}${inFolders})`;
}

const USER_FOLDERS = "^/(?:Users|Documents and Settings|home)/";
/** The name of the user whose own folder a path lies in, on the systems that are read. */
export const USER_FOLDER_SQL = `${USER_FOLDERS}([^/]+)`;

/** The year of a moment in the job's time zone, or "none". */
export const yearOf = (jobId: number, moment: SQL = sql`i.modified`) =>
  sql`coalesce(extract(year from ${moment} at time zone (select time_zone from jobs where id = ${jobId}))::text, 'none')`;
export const standingOf = sql`case when i.live then 'live' else 'deleted' end`;
export const typeOf = sql`coalesce(nullif(i.extension, ''), 'none')`;

/** The class of an item's size; null: it is not known. A file of no bytes is whole where its content is known; of others a size of 0 says nothing. */
export const sizeClassOf = sql.raw(
  `case when i.size = 0 and i.condition <> 'whole' then null ${Object.entries(SIZES)
    .map(([word, most]) => `when i.size <= ${most} then '${word}'`)
    .join(" ")} end`,
);

/** The condition that a size is of a class. */
export function sizeCondition(size: SizeClass, shown: SQL): SQL {
  const names = Object.keys(SIZES) as SizeClass[];
  const below = names[names.indexOf(size) - 1];
  return sql`${shown} > ${below === undefined ? -1 : SIZES[below]} and ${shown} <= ${SIZES[size]}`;
}

/**
 * How an item is called in the list, as a word of the filter: a live file of which only the record was read is “in place” and not “whole”.
 * @param shown its condition as the list has it @param isVersion whether that is of a version of another time
 */
export const conditionOf = (shown: SQL = sql`i.condition`, isVersion: SQL = sql`false`) =>
  sql`case when ${shown} = 'whole' and i.live and i.opens is null and not ${isVersion} then 'in-place' else ${shown} end`;

/**
 * Whether an item was there at a moment: a copy of it stands for a span of states with that moment in it; of a copy that is of one state
 * alone, its dates must allow it: made by then, and not yet deleted. Only copies of what the list is narrowed to count.
 */
const presentAt = (
  moment: string,
  scope: Scope,
) => sql`exists (select 1 from copies c where c.item_id = i.id and ${inScope(scope)} and (c.present @> ${moment}::timestamptz
  or (c.present is null and c.condition <> 'name-only' and coalesce(c.created, c.modified) <= ${moment}::timestamptz
    and (c.state = 'live' or c.deleted_at > ${moment}::timestamptz))))`;

/** Whether a row `i` that says so is a version of a snapshot or backup set. */
export const IS_KEPT_VERSION = sql`i.then_id is not null`;

/** Whether a list shows a version of another time of an item `i`. */
const isVersion = ({ asOf, ...scope }: Partial<ItemFilter>) => (asOf ? sql`${versionAt("i.id", asOf, scope)} is not null` : sql`false`);

/** The condition that an item is called by this word. (Of items as they are now the database finds it in its indexes.) */
function conditionIs(condition: NonNullable<ItemFilter["condition"]>, filter: Partial<ItemFilter>): SQL {
  if (filter.rows) return sql`${conditionOf(sql`i.condition`, IS_KEPT_VERSION)} = ${condition}`;
  if (filter.asOf) return sql`${conditionOf(shownValue("condition", filter), isVersion(filter))} = ${condition}`;
  const isInPlace = sql`(i.live and i.opens is null)`;
  if (condition === "in-place") return sql`i.condition = 'whole' and ${isInPlace}`;
  return condition === "whole" ? sql`i.condition = 'whole' and not ${isInPlace}` : sql`i.condition = ${condition}`;
}

/**
 * The condition on the rows `i` of a list that a filter means (that versions are the newest ones is said by `matchingRows`).
 * @param without one way of narrowing to leave out
 */
export async function filterCondition(db: Connection, jobId: number, filter: ItemFilter, without?: keyof ItemFilter): Promise<SQL> {
  const parts: SQL[] = [sql`i.job_id = ${jobId}`];
  const used: Partial<ItemFilter> = { ...filter };
  if (without) delete used[without];
  const {
    link,
    kind,
    place,
    condition,
    folder,
    year,
    size,
    originals,
    home,
    rows,
    asOf,
    since,
    set,
    source,
    volume,
    user,
    standing,
    deleted,
    created,
    type,
  } = used;
  if (rows && asOf) throw new Problem("A list of versions is of all moments. Take the moment away, or show items.");
  if (filter.show === "lost") parts.push(sql`i.lost`);
  if (kind) parts.push(sql`i.kind = ${kind}`);
  if (place) parts.push(sql`${place} = any(i.places)`);
  if (condition) parts.push(conditionIs(condition, used));
  if (folder)
    parts.push(
      sql`i.folder_id in (select id from folders where job_id = ${jobId} and (path = ${folder} or path like ${`${escaped(folder)}/%`}))`,
    );
  if (year) parts.push(sql`${yearOf(jobId, shownValue("modified", used))} = ${year}`);
  if (size) parts.push(sizeCondition(size, shownValue("size", used)));
  if (size === "empty") parts.push(sql`${shownValue("condition", used)} = 'whole'`);
  if (rows) parts.push(inScope({ source, volume, set }, sql`i`));
  if (source && !rows) parts.push(sql`i.stores && array(select id from stores where source_id = ${source})`);
  if (volume && !rows) parts.push(sql`${volume}::int = any(i.stores)`);
  if (home) parts.push(sql`i.folder_id in (select id from folders where home_id = ${home})`);
  if (asOf) parts.push(presentAt(asOf, used));
  if (asOf && since) parts.push(sql`${sinceAt("i.id", asOf, used)} = ${since}`);
  if (set && !asOf && !rows) parts.push(sql`exists (select 1 from copies c where c.item_id = i.id and ${inScope({ set })})`);
  if (user)
    parts.push(
      sql`i.folder_id in (select id from folders where job_id = ${jobId} and path ~* ${`${USER_FOLDERS}${user.replace(/[.*+?^${}()|[\]\\]/g, "\\$&")}(/|$)`})`,
    );
  if (standing) parts.push(sql`i.live = ${standing === "live"}`);
  if (deleted) parts.push(sql`${yearOf(jobId, sql`i.deleted_at`)} = ${deleted}`);
  if (created) parts.push(sql`${yearOf(jobId, sql`i.created`)} = ${created}`);
  if (type) parts.push(sql`i.extension = ${type === "none" ? "" : type}`);
  if (link)
    parts.push(
      rows
        ? sql`i.id in (select s.copy_id from share_choices s where s.share_id = ${link})`
        : sql`exists (select 1 from share_choices s join copies c on c.id = s.copy_id where s.share_id = ${link} and c.item_id = i.id)`,
    );
  if (originals) parts.push(sql`i.facts->>'inside' is null`);
  for (const word of searchWords(filter.q)) parts.push(await wordCondition(db, jobId, word));
  return sql.join(parts, sql` and `);
}

import { type SQL, sql } from "drizzle-orm";
import type { Connection } from "../database/connection";
import { type Facets, type ItemFilter, type SinceFacet, setsOf } from "./contract";
import { conditionOf, escaped, filterCondition, IS_KEPT_VERSION, sizeClassOf, standingOf, typeOf, USER_FOLDER_SQL, yearOf } from "./filter";
import { matchingRows } from "./matching";
import { countSince, itemsAt, itemsToLookAt } from "./moments";
import { setWords } from "./set-words";

const MAX_FOLDERS_SHOWN = 60;
const MAX_TYPES_SHOWN = 40;

type Counted = { value: string; count: number }[];
const NAMES = ["kind", "place", "condition", "year", "size", "standing", "deleted", "created", "type", "volume"] as const;
type Name = (typeof NAMES)[number];

/** What each way of narrowing counts by; an item in several places stands in a group of its own, taken apart afterwards. */
const groupsOf = (jobId: number, { asOf, rows }: ItemFilter): Record<Name, SQL> => ({
  kind: sql`i.kind`,
  place: sql`array_to_string(i.places, ',')`,
  condition: asOf || rows ? conditionOf(sql`i.condition`, IS_KEPT_VERSION) : conditionOf(),
  year: yearOf(jobId),
  size: sizeClassOf,
  standing: standingOf,
  deleted: yearOf(jobId, sql`i.deleted_at`),
  created: yearOf(jobId, sql`i.created`),
  type: typeOf,
  volume: sql`array_to_string(i.stores, ',')`,
});

/** How many rows of a list match by each way of narrowing. */
export async function countFacets(db: Connection, jobId: number, filter: ItemFilter): Promise<Facets> {
  const groups = groupsOf(jobId, filter);
  const above = filter.folder ?? "";
  const itemsOf = async (without?: keyof ItemFilter) => {
    if (filter.asOf === undefined) return sql`${await matchingRows(db, jobId, filter, without)} i`;
    const where = await filterCondition(db, jobId, filter, without);
    const scope = without ? { ...filter, [without]: undefined } : filter;
    return sql`${itemsAt(jobId, itemsToLookAt(jobId, scope), where, filter.asOf, scope)} i`;
  };
  const items = await itemsOf();
  // Those nothing was chosen of share one walk over the items; a chosen one needs a walk without its own choice.
  const free = NAMES.filter((name) => !filter[name] && !(name === "volume" && filter.source));
  const found = await walk(db, items, pick(groups, free), above);
  const anew = async (name: keyof ItemFilter, group: Name | null) =>
    walk(db, await itemsOf(name), group ? pick(groups, [group]) : {}, group ? null : above);
  for (const name of NAMES) if (filter[name]) Object.assign(found, await anew(name, name));
  if (!found.volume) found.volume = (await walk(db, items, pick(groups, ["volume"]), null)).volume ?? [];
  // A chosen source, user or home is counted beside the others too.
  const sourceSets = filter.source ? (await anew("source", "volume")).volume : found.volume;
  const users = filter.user ? (await anew("user", null)).user : found.user;
  const homes = filter.home ? (await anew("home", null)).home : found.home;
  const each = filter.rows === "each" ? sql`sum(i.copies)` : sql`count(*)`;
  const total = await db.execute<{ count: string | null }>(sql`select ${each} as count from items i where i.job_id = ${jobId}`);
  const of = (name: Name) => sorted(found[name] ?? []);
  return {
    total: Number(total.rows[0]?.count ?? 0),
    kind: of("kind"),
    place: sorted(takenApart(found.place ?? [])),
    condition: of("condition"),
    year: of("year"),
    size: of("size"),
    standing: of("standing"),
    deleted: of("deleted"),
    created: of("created"),
    type: of("type").slice(0, MAX_TYPES_SHOWN),
    user: sorted(users ?? []).slice(0, MAX_FOLDERS_SHOWN),
    home: await homeWords(db, jobId, sorted(homes ?? [])),
    set: await bySet(db, jobId, filter),
    ...(await byVolume(db, jobId, found.volume ?? [], sourceSets ?? [])),
    folder: sorted(found.folder ?? []).slice(0, MAX_FOLDERS_SHOWN),
  };
}

const pick = (groups: Record<Name, SQL>, names: readonly Name[]) => Object.fromEntries(names.map((name) => [name, groups[name]]));
const sorted = (rows: Counted) => [...rows].sort((a, b) => b.count - a.count || a.value.localeCompare(b.value));

/** What is counted by folders: what stands right below one, whose profile they lie in, in which home. */
const byFolder = (above: string) => sql`
  union all select v.name, v.value, sum(g.count) from g join folders f on f.id = g.folder::int
    cross join lateral (values ('folder', case when f.path like ${`${escaped(above)}/%`} then split_part(substr(f.path, ${above.length + 2}), '/', 1) end),
      ('user', (regexp_match(f.path, ${USER_FOLDER_SQL}, 'i'))[1]), ('home', f.home_id::text)) v(name, value)
    where v.value <> '' group by 1, 2`;

/**
 * Counts the items by each of these, in one walk, and (`above` not null) by their folders.
 * @param items what they are, as a table `i` with its condition
 * @param above the folder whose folders are counted; "" is the root
 */
async function walk(db: Connection, items: SQL, groups: Record<string, SQL>, above: string | null): Promise<Record<string, Counted>> {
  const all = above === null ? groups : { ...groups, folder: sql`i.folder_id::text` };
  const names = Object.keys(all);
  const list = (each: (name: string) => SQL) => sql.join(names.map(each), sql`, `);
  const { rows } = await db.execute<{ name: string; value: string; count: string }>(sql`
    with g as materialized (
      select ${list((name) => sql`${sql.identifier(name)}`)}, count(*) as count from (select ${list((name) => sql`${all[name]} as ${sql.identifier(name)}`)} from ${items}) i
      group by grouping sets (${list((name) => sql`(${sql.identifier(name)})`)})
    )
    select v.name, v.value, g.count from g
      cross join lateral (values ${list((name) => sql`(${name}, ${sql.identifier(name)}::text)`)}) v(name, value)
      where v.value is not null and v.name <> 'folder' ${above === null ? sql`` : byFolder(above)}`);
  const found: Record<string, Counted> = {};
  for (const { name, value, count } of rows) {
    found[name] ??= [];
    found[name].push({ value, count: Number(count) });
  }
  return found;
}

/** Items by their sets of places, as items by single places. */
function takenApart(sets: Counted): Counted {
  const counts = new Map<string, number>();
  for (const { value, count } of sets) for (const place of value.split(",")) counts.set(place, (counts.get(place) ?? 0) + count);
  return [...counts].map(([value, count]) => ({ value, count }));
}

async function homeWords(db: Connection, jobId: number, homes: Counted): Promise<Facets["home"]> {
  const { rows } = await db.execute<{ id: number; label: string }>(sql`select id, label from homes where job_id = ${jobId}`);
  const labels = new Map(rows.map(({ id, label }) => [String(id), label]));
  return homes.map((each) => ({ ...each, words: labels.get(each.value) ?? each.value }));
}

/** How many items of a list as of a moment match by what became of them since; none where it shows no moment. */
export async function sinceFacet(db: Connection, jobId: number, filter: ItemFilter): Promise<SinceFacet> {
  if (filter.asOf === undefined) return { since: [] };
  const where = await filterCondition(db, jobId, filter, "since");
  const counts = await countSince(db, jobId, where, filter.asOf, filter);
  return { since: sorted([...counts].map(([value, count]) => ({ value, count }))) };
}

/** Items by the backup sets and snapshots they have copies of (as of the moment of the list, if it shows one), with what those are called. */
async function bySet(db: Connection, jobId: number, filter: ItemFilter): Promise<Facets["set"]> {
  const words = await setWords(db, jobId);
  if (words.size === 0) return [];
  const stood = filter.asOf ? sql`and c.present @> ${filter.asOf}::timestamptz` : sql``;
  const { rows } = await db.execute<{ value: string; count: string }>(
    filter.rows
      ? sql`select i.store_id || '-' || i.set_key as value, count(*) as count from ${await matchingRows(db, jobId, filter, "set")} i where i.set_key is not null group by 1`
      : sql`select c.store_id || '-' || c.set_key as value, count(distinct i.id) as count from copies c join items i on i.id = c.item_id
        where c.job_id = ${jobId} and c.set_key is not null ${stood} and ${await filterCondition(db, jobId, filter, "set")} group by 1`,
  );
  const counts = new Map(rows.map(({ value, count }) => [value, Number(count)]));
  // A set that was chosen stays there to be let go of, with nothing of the moment of the list too.
  for (const chosen of setsOf(filter.set)) if (words.has(chosen) && !counts.has(chosen)) counts.set(chosen, 0);
  return sorted([...counts].map(([value, count]) => ({ value, count }))).map((each) => ({
    ...each,
    words: words.get(each.value) ?? each.value,
  }));
}

/** Items by volume and by source, with what those are called. @param inVolumes, forSources items by the sets of volumes their copies are in */
async function byVolume(
  db: Connection,
  jobId: number,
  inVolumes: Counted,
  forSources: Counted,
): Promise<Pick<Facets, "volume" | "source">> {
  const { rows } = await db.execute<{ id: number; label: string; source_id: number; name: string }>(sql`
    select v.id, coalesce(v.label, 'volume ' || v.number) as label, v.source_id, s.name from stores v join sources s on s.id = v.source_id where s.job_id = ${jobId}`);
  const known = new Map(rows.map((row) => [String(row.id), row]));
  const sources = new Map<string, { value: string; count: number; words: string }>();
  for (const { value, count } of forSources) {
    const inSet = value.split(",").flatMap((store) => known.get(store) ?? []);
    for (const [sourceId, name] of new Map(inSet.map((row) => [row.source_id, row.name]))) {
      const id = String(sourceId);
      sources.set(id, { value: id, count: count + (sources.get(id)?.count ?? 0), words: name });
    }
  }
  const called = new Map<string, number>();
  for (const { label } of rows) called.set(label, (called.get(label) ?? 0) + 1);
  const words = (value: string) => {
    const row = known.get(value);
    if (!row) return value;
    return (called.get(row.label) ?? 0) > 1 ? `${row.label} of ${row.name}` : row.label;
  };
  return {
    volume: sorted(takenApart(inVolumes)).map((each) => ({ ...each, words: words(each.value) })),
    source: [...sources.values()].sort((a, b) => b.count - a.count),
  };
}

import { type SQL, sql } from "drizzle-orm";
import type { Connection } from "../database/connection";
import type { Facets, ItemFilter } from "./contract";
import { conditionOf, filterCondition, sizeClassOf, standingOf, typeOf, USER_FOLDER, yearOf } from "./filter";

const MAX_FOLDERS_SHOWN = 60;
const MAX_TYPES_SHOWN = 40;

type Counted = { value: string; count: number }[];
const NAMES = ["kind", "place", "condition", "year", "size", "standing", "deleted", "created", "type", "volume"] as const;
type Name = (typeof NAMES)[number];

/** What each way of narrowing counts by; an item in several places stands in a group of its own, taken apart afterwards. */
const groupsOf = (jobId: number): Record<Name, SQL> => ({
  kind: sql`i.kind`,
  place: sql`array_to_string(i.places, ',')`,
  condition: conditionOf,
  year: yearOf(jobId),
  size: sizeClassOf,
  standing: standingOf,
  deleted: yearOf(jobId, sql`i.deleted_at`),
  created: yearOf(jobId, sql`i.created`),
  type: typeOf,
  volume: sql`i.store_id::text`,
});

/** How many items match by each way of narrowing. */
export async function countFacets(db: Connection, jobId: number, filter: ItemFilter): Promise<Facets> {
  const groups = groupsOf(jobId);
  const where = await filterCondition(db, jobId, filter);
  // Those nothing was chosen of, and the folders, share one walk over the items; a chosen one needs a walk without its own choice.
  const found = await walk(db, where, {
    ...pick(
      groups,
      NAMES.filter((name) => !filter[name]),
    ),
    folder: sql`i.folder_id::text`,
  });
  for (const name of NAMES.filter((each) => filter[each])) {
    const others = await filterCondition(db, jobId, filter, name);
    Object.assign(found, await walk(db, others, pick(groups, [name])));
  }
  // A chosen source or user is counted beside the others too.
  const volumes = filter.source
    ? ((await walk(db, await filterCondition(db, jobId, filter, "source"), pick(groups, ["volume"]))).volume ?? [])
    : (found.volume ?? []);
  const folders = filter.user
    ? ((await walk(db, await filterCondition(db, jobId, filter, "user"), { folder: sql`i.folder_id::text` })).folder ?? [])
    : (found.folder ?? []);
  const paths = await pathsOf(db, jobId);
  const total = await db.execute<{ count: string }>(sql`select count(*) from items i where i.job_id = ${jobId}`);
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
    user: usersOf(paths, folders),
    ...(await byVolume(db, jobId, found.volume ?? [], volumes)),
    folder: belowFolder(paths, filter.folder ?? "", found.folder ?? []),
  };
}

const pick = (groups: Record<Name, SQL>, names: readonly Name[]) => Object.fromEntries(names.map((name) => [name, groups[name]]));
const sorted = (rows: Counted) => [...rows].sort((a, b) => b.count - a.count || a.value.localeCompare(b.value));

/** Counts the items by each of these, in one walk. */
async function walk(db: Connection, where: SQL, groups: Record<string, SQL>): Promise<Record<string, Counted>> {
  const names = Object.keys(groups);
  const columns = sql.join(
    names.map((name) => sql`${groups[name]} as ${sql.identifier(name)}`),
    sql`, `,
  );
  const sets = sql.join(
    names.map((name) => sql`(${sql.identifier(name)})`),
    sql`, `,
  );
  const { rows } = await db.execute<Record<string, string> & { count: string }>(
    sql`select ${sql.join(names.map(sql.identifier), sql`, `)}, count(*) from (select ${columns} from items i where ${where}) g group by grouping sets (${sets})`,
  );
  return Object.fromEntries(
    names.map((name) => [
      name,
      rows.flatMap((row) => (row[name] === null ? [] : [{ value: row[name] as string, count: Number(row.count) }])),
    ]),
  );
}

/** Items by their sets of places, as items by single places. */
function takenApart(sets: Counted): Counted {
  const counts = new Map<string, number>();
  for (const { value, count } of sets) for (const place of value.split(",")) counts.set(place, (counts.get(place) ?? 0) + count);
  return [...counts].map(([value, count]) => ({ value, count }));
}

async function pathsOf(db: Connection, jobId: number): Promise<Map<string, string>> {
  const { rows } = await db.execute<{ id: number; path: string }>(sql`select id, path from folders where job_id = ${jobId}`);
  return new Map(rows.map((row) => [String(row.id), row.path]));
}

/** The folders right below one, each with all that is beneath it. */
function belowFolder(paths: ReadonlyMap<string, string>, above: string, byFolder: Counted): Counted {
  const child = (path: string) => path.slice(above.length + 1).split("/")[0];
  return summed(paths, byFolder, child).slice(0, MAX_FOLDERS_SHOWN);
}

/** The users in whose folders the items stood. */
const usersOf = (paths: ReadonlyMap<string, string>, byFolder: Counted): Counted =>
  summed(paths, byFolder, (path) => USER_FOLDER.exec(path)?.[1]).slice(0, MAX_FOLDERS_SHOWN);

/** Items by folder, as items by what a folder's path says; those of which it says nothing are left out. */
function summed(paths: ReadonlyMap<string, string>, byFolder: Counted, say: (path: string) => string | undefined): Counted {
  const counts = new Map<string, number>();
  for (const { value, count } of byFolder) {
    const said = say(paths.get(value) ?? "");
    if (said) counts.set(said, (counts.get(said) ?? 0) + count);
  }
  return sorted([...counts].map(([value, count]) => ({ value, count })));
}

/** Items by volume and by source, with what those are called. */
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
    const row = known.get(value);
    if (!row) continue;
    const id = String(row.source_id);
    sources.set(id, { value: id, count: count + (sources.get(id)?.count ?? 0), words: row.name });
  }
  const called = new Map<string, number>();
  for (const { label } of rows) called.set(label, (called.get(label) ?? 0) + 1);
  const words = (value: string) => {
    const row = known.get(value);
    if (!row) return value;
    return (called.get(row.label) ?? 0) > 1 ? `${row.label} of ${row.name}` : row.label;
  };
  return {
    volume: sorted(inVolumes).map((each) => ({ ...each, words: words(each.value) })),
    source: [...sources.values()].sort((a, b) => b.count - a.count),
  };
}

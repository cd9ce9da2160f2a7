import { type SQL, sql } from "drizzle-orm";
import type { Connection } from "../database/connection";
import type { Facets, ItemFilter } from "./contract";
import { filterCondition, sizeClassOf, yearOf } from "./filter";

const MAX_FOLDERS_SHOWN = 60;

type Counted = { value: string; count: number }[];
const NAMES = ["kind", "place", "condition", "year", "size"] as const;
type Name = (typeof NAMES)[number];

/** What each way of narrowing counts by; an item in several places stands in a group of its own, taken apart afterwards. */
const groupsOf = (jobId: number): Record<Name, SQL> => ({
  kind: sql`i.kind`,
  place: sql`array_to_string(i.places, ',')`,
  condition: sql`i.condition`,
  year: yearOf(jobId),
  size: sizeClassOf,
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
  const total = await db.execute<{ count: string }>(sql`select count(*) from items i where i.job_id = ${jobId}`);
  const of = (name: Name) => sorted(found[name] ?? []);
  return {
    total: Number(total.rows[0]?.count ?? 0),
    kind: of("kind"),
    place: sorted(takenApart(found.place ?? [])),
    condition: of("condition"),
    year: of("year"),
    size: of("size"),
    folder: await belowFolder(db, jobId, filter.folder ?? "", found.folder ?? []),
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

/** The folders right below one, each with all that is beneath it. */
async function belowFolder(db: Connection, jobId: number, above: string, byFolder: Counted): Promise<Counted> {
  if (byFolder.length === 0) return [];
  const { rows } = await db.execute<{ id: number; path: string }>(sql`select id, path from folders where job_id = ${jobId}`);
  const paths = new Map(rows.map((row) => [String(row.id), row.path]));
  const counts = new Map<string, number>();
  for (const { value, count } of byFolder) {
    const child = paths
      .get(value)
      ?.slice(above.length + 1)
      .split("/")[0];
    if (child) counts.set(child, (counts.get(child) ?? 0) + count);
  }
  return sorted([...counts].map(([value, count]) => ({ value, count }))).slice(0, MAX_FOLDERS_SHOWN);
}

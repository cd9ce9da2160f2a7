import { type SQL, sql } from "drizzle-orm";
import type { Connection } from "../database/connection";
import type { Facets, ItemFilter } from "./contract";
import { filterCondition, sizeClassOf, yearOf } from "./filter";

const MAX_FOLDERS_SHOWN = 60;

type Counted = { value: string; count: number }[];
type Grouped = "kind" | "condition" | "year" | "size";

/** How many items match by each way of narrowing. */
export async function countFacets(db: Connection, jobId: number, filter: ItemFilter): Promise<Facets> {
  const groups: Record<Grouped, SQL> = { kind: sql`i.kind`, condition: sql`i.condition`, year: yearOf(jobId), size: sizeClassOf };
  const names = Object.keys(groups) as Grouped[];
  const where = await filterCondition(db, jobId, filter);
  // Those nothing was chosen of share one walk over the items; a chosen one needs a walk without its own choice.
  const open = names.filter((name) => !filter[name]);
  const found: Partial<Record<Grouped, Counted>> = {};
  if (open.length > 0) {
    const columns = sql.join(
      open.map((name) => sql`${groups[name]} as ${sql.identifier(name)}`),
      sql`, `,
    );
    const sets = sql.join(
      open.map((name) => sql`(${sql.identifier(name)})`),
      sql`, `,
    );
    const { rows } = await db.execute<Record<string, string> & { count: string }>(
      sql`select ${sql.join(open.map(sql.identifier), sql`, `)}, count(*) from (select ${columns} from items i where ${where}) g group by grouping sets (${sets})`,
    );
    for (const name of open)
      found[name] = sorted(
        rows.filter((row) => row[name] !== null).map((row) => ({ value: row[name] as string, count: Number(row.count) })),
      );
  }
  for (const name of names.filter((each) => filter[each])) {
    const others = await filterCondition(db, jobId, filter, name);
    found[name] = await counted(db, sql`select ${groups[name]} as value, count(*) from items i where ${others} group by 1`);
  }
  const anyPlace = await filterCondition(db, jobId, filter, "place");
  const place = await counted(db, sql`select unnest(i.places) as value, count(*) from items i where ${anyPlace} group by 1`);
  const total = await db.execute<{ count: string }>(sql`select count(*) from items i where i.job_id = ${jobId}`);
  return {
    total: Number(total.rows[0]?.count ?? 0),
    kind: found.kind ?? [],
    condition: found.condition ?? [],
    year: found.year ?? [],
    size: found.size ?? [],
    place,
    folder: await folderFacet(db, jobId, filter, where),
  };
}

async function counted(db: Connection, query: SQL): Promise<Counted> {
  const { rows } = await db.execute<{ value: string; count: string }>(query);
  return sorted(rows.map((row) => ({ value: row.value, count: Number(row.count) })));
}

const sorted = (rows: Counted) => rows.sort((a, b) => b.count - a.count || a.value.localeCompare(b.value));

/** The folders right below the chosen one. Items are counted by their folder first: there are far fewer folders. */
async function folderFacet(db: Connection, jobId: number, filter: ItemFilter, where: SQL): Promise<Counted> {
  const below = filter.folder ?? "";
  return (
    await counted(
      db,
      sql`select split_part(substr(f.path, ${below.length + 2}::int), '/', 1) as value, sum(n.count)::bigint as count
          from (select i.folder_id, count(*) from items i where ${where} group by 1) n join folders f on f.id = n.folder_id
          where f.job_id = ${jobId} group by 1`,
    )
  )
    .filter((each) => each.value !== "")
    .slice(0, MAX_FOLDERS_SHOWN);
}

import { sql } from "drizzle-orm";
import { diskRuns } from "../../core/bytes/layout";
import { decodeLayout } from "../../core/bytes/layout-code";
import { RangeSet } from "../../core/bytes/range-set";
import { formatById } from "../../core/formats/registry";
import { isMarked } from "../../core/sweep/find";
import { type Grid, gridOf } from "../../core/sweep/grid";
import type { Connection } from "../database/connection";

interface StorePlace {
  readonly id: number;
  readonly offset: number;
  readonly clusterSize: number | null;
}

/** Bytes of a cluster that are assumed where neither a volume nor its files say. */
const USUAL_CLUSTER = 4096;
/** Files whose beginnings are looked at, and whose places are known. */
const MOST_STARTS = 5_000;
const MOST_NEIGHBOURS = 100_000;

/** Files of a store that were found by their content and stand by themselves. */
const foundIn = (storeId: number) =>
  sql`c.store_id = ${storeId} and c.place = 'raw' and c.evidence->>'laid' is null and c.facts->>'inside' is null`;

/** Where clusters begin, as the files show that were found by their content. */
export async function gridOfStore(db: Connection, store: StorePlace): Promise<Grid> {
  const { rows } = await db.execute<{ at: string }>(sql`
    select c.first_at as at from copies c where ${foundIn(store.id)} and c.condition in ('whole', 'not-checked') and c.first_at is not null
    order by c.first_at limit ${MOST_STARTS}`);
  return gridOf(rows.map(({ at }) => Number(at))) ?? { cluster: store.clusterSize ?? USUAL_CLUSTER, origin: store.offset };
}

/**
 * The files around a place of a store: where those stand that are whole and begin with a cluster, and where others begin. Disk byte offsets.
 * @param without a copy that is none of them
 */
export async function neighboursOf(
  db: Connection,
  storeId: number,
  grid: Grid,
  around: { readonly start: number; readonly end: number },
  without: number,
): Promise<{ proven: RangeSet; begins: number[] }> {
  const { rows } = await db.execute<{ at: string; layout: Buffer | null; condition: string; format: string }>(sql`
    select c.first_at as at, case when c.condition = 'whole' then c.layout end as layout, c.condition, c.evidence->'content'->>'format' as format
    from copies c
    where ${foundIn(storeId)} and c.first_at between ${around.start} and ${around.end} and c.id <> ${without}
      and c.evidence->'content'->>'format' not in ('words', 'csv', 'json', 'text')
    order by c.first_at limit ${MOST_NEIGHBOURS}`);
  const proven = new RangeSet();
  const begins: number[] = [];
  for (const row of rows) {
    const at = Number(row.at);
    const format = formatById.get(row.format);
    if (row.condition !== "partial" || (format && isMarked({ format }))) begins.push(at);
    if (row.layout && (at - grid.origin) % grid.cluster === 0)
      for (const run of diskRuns(decodeLayout(row.layout))) proven.add(run.at, run.at + run.length);
  }
  return { proven, begins };
}

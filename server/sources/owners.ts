import { sql } from "drizzle-orm";
import { type DiskRun, diskRuns } from "../../core/bytes/layout";
import { decodeLayout } from "../../core/bytes/layout-code";
import type { Connection } from "../database/connection";
import type { Owner } from "./contract";

/**
 * Copies in one stretch that begin before a place and are looked at: a file whose bytes reach that far is the nearest, or near it.
 * Live ones do not overlap; but several passes may have found the same.
 */
const NEAREST = 200;
const NEAREST_LIVE = 16;
/** Copies that begin within a stretch, or lie scattered about it, and are looked at. */
const MOST_WITHIN = 2000;

interface Holder {
  readonly copyId: number;
  /** null: a folder, or one of the system's own files. */
  readonly itemId: number | null;
  readonly name: string;
  readonly folder: string;
  readonly live: boolean;
  /** Bytes of the stretches asked for that its content holds. */
  readonly bytes: number;
}

/** The copies whose content holds bytes of these stretches of a source, the live ones first, then those that hold the most. */
async function findHolders(
  db: Connection,
  jobId: number,
  sourceId: number,
  runs: readonly DiskRun[],
  liveOnly: boolean,
): Promise<Holder[]> {
  const kept = liveOnly ? sql`and state = 'live'` : sql``;
  const starts = sql.param(runs.map((run) => run.at));
  const ends = sql.param(runs.map((run) => run.at + run.length));
  // Layouts are fetched once, for those that may hold something.
  const { rows } = await db.execute<{
    id: string;
    item_id: string | null;
    name: string;
    folder: string;
    state: string;
    layout: Buffer;
  }>(sql`
    with near as (
      select distinct c.id
      from stores v
      cross join unnest(${starts}::bigint[], ${ends}::bigint[]) as r(start, until)
      cross join lateral (
        (select id from copies where store_id = v.id and first_at >= r.start and first_at < r.until and span is null ${kept} limit ${MOST_WITHIN})
        union all
        (select id from copies where store_id = v.id and first_at < r.start and span is null ${kept}
         order by first_at desc limit ${liveOnly ? NEAREST_LIVE : NEAREST})
        union all
        (select id from copies where store_id = v.id and span && int8range(r.start, r.until) ${kept} limit ${MOST_WITHIN})
      ) c
      where v.source_id = ${sourceId}
    )
    select c.id, c.item_id, c.name, f.path as folder, c.state, c.layout
    from near join copies c on c.id = near.id join folders f on f.id = c.folder_id
    where c.job_id = ${jobId} and c.layout is not null`);
  return rows
    .map((row) => ({
      copyId: Number(row.id),
      itemId: row.item_id === null ? null : Number(row.item_id),
      name: row.name,
      folder: row.folder,
      live: row.state === "live",
      bytes: shared(runs, diskRuns(decodeLayout(row.layout))),
    }))
    .filter((holder) => holder.bytes > 0)
    .sort((a, b) => Number(b.live) - Number(a.live) || b.bytes - a.bytes || a.copyId - b.copyId);
}

/** Bytes two lists of stretches have in common; neither has any twice. */
function shared(one: readonly DiskRun[], other: readonly DiskRun[]): number {
  const [a, b] = [one, other].map((runs) => [...runs].sort((x, y) => x.at - y.at)) as [DiskRun[], DiskRun[]];
  let bytes = 0;
  for (let i = 0, k = 0; i < a.length && k < b.length; ) {
    const [x, y] = [a[i] as DiskRun, b[k] as DiskRun];
    bytes += Math.max(0, Math.min(x.at + x.length, y.at + y.length) - Math.max(x.at, y.at));
    if (x.at + x.length < y.at + y.length) i += 1;
    else k += 1;
  }
  return bytes;
}

/** Which found file's content holds a byte of the disk, the live one before a lost one. */
export async function findOwner(db: Connection, jobId: number, sourceId: number, at: number): Promise<Owner> {
  const holders = await findHolders(db, jobId, sourceId, [{ at, length: 1 }], false);
  const found = holders.find((holder) => holder.itemId !== null);
  if (!found) return null;
  const { itemId, copyId, name, folder, live } = found;
  return { itemId: itemId as number, copyId, name, folder, live };
}

/** Stretches of a copy that are asked for at once: one in more pieces is asked for by its first ones. */
const MOST_RUNS = 500;
const MOST_NAMED = 200;

/** The paths of the live files and folders that stand now where these stretches are, those with the most bytes of them first. */
export async function findLiveHolders(
  db: Connection,
  jobId: number,
  sourceId: number,
  runs: readonly DiskRun[],
  except: number,
): Promise<string[]> {
  const holders = await findHolders(db, jobId, sourceId, runs.slice(0, MOST_RUNS), true);
  const paths = holders.filter((holder) => holder.copyId !== except).map((holder) => `${holder.folder}/${holder.name}`);
  return [...new Set(paths)].slice(0, MOST_NAMED);
}

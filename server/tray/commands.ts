import { type SQL, sql } from "drizzle-orm";
import { expectedPlace } from "../../core/records/entries/expected-place";
import { companionSuffix } from "../../core/restore/companions";
import type { Connection, Database } from "../database/connection";
import { MANY_ROWS, refreshStatistics } from "../database/statistics";
import { askToCheckTray } from "../items/check";
import { idsBetween } from "../items/list";
import { matchingRows } from "../items/matching";
import { sinceAt, versionAt } from "../items/moments";
import { besideOf } from "../items/queries";
import { Problem } from "../problem";
import { announce } from "../workers/queue";
import type { TrayChange } from "./contract";

/** The items of this job that a change means, as a query for their ids; of a list of versions, the copies. */
async function meant(db: Connection, jobId: number, change: Exclude<TrayChange, { expected: unknown }>): Promise<SQL> {
  if ("everything" in change) return sql`select id from items where job_id = ${jobId}`;
  if ("copies" in change) return sql`select item_id from copies where job_id = ${jobId} and id = any(${idArray(change.copies)})`;
  if ("items" in change) return sql`select id from items where job_id = ${jobId} and id = any(${idArray(change.items)})`;
  const { matching, between } = change;
  if (between) return idsBetween(db, jobId, matching, ...between);
  return sql`select i.id from ${await matchingRows(db, jobId, matching)} i`;
}

const idArray = (ids: readonly number[]) => sql.raw(`'{${ids.map(Math.trunc).join(",")}}'::bigint[]`);

/** Puts items or single copies of this job into the tray, or takes them out. What is put in is checked whether it opens. */
export async function changeTray(db: Database, jobId: number, change: TrayChange): Promise<void> {
  const { rows } = await db.execute<{ now: string }>(sql`select clock_timestamp()::text as now`);
  if ("copies" in change) await changeCopies(db, jobId, sql`select unnest(${idArray(change.copies)})`, change.chosen);
  else if ("matching" in change && change.matching.rows) await changeCopies(db, jobId, await meant(db, jobId, change), change.chosen);
  else if ("expected" in change) await chooseExpected(db, jobId, change);
  else {
    const ids = await meant(db, jobId, change);
    const then = "matching" in change ? change.matching : "items" in change ? change : null;
    const copy = then?.asOf === undefined ? sql`null::bigint` : versionAt("m.id", then.asOf, then);
    // Of all that match, what was changed since and not kept is left out: its content of then is not here.
    const isThen =
      "matching" in change && then?.asOf !== undefined
        ? sql`v.copy_id is not null or ${sinceAt("m.id", then.asOf, then)} <> 'changed'`
        : sql`true`;
    if (change.chosen) {
      const { rowCount } = await db.execute(sql`
        insert into tray_entries (job_id, item_id, copy_id) select ${jobId}::int, m.id, v.copy_id from (${ids}) m cross join lateral (select ${copy} as copy_id) v
        where not exists (select 1 from tray_entries t where t.job_id = ${jobId} and t.item_id = m.id) and (${isThen}) on conflict do nothing`);
      if ((rowCount ?? 0) >= MANY_ROWS) await refreshStatistics(db, "tray_entries");
    } else await db.execute(sql`delete from tray_entries where job_id = ${jobId} and item_id in (${ids})`);
  }
  if (change.chosen) await askToCheckTray(db, jobId, rows[0]?.now);
  await announce(db, jobId);
}

/**
 * Chooses single copies, or takes them out. The best copy of an item is what the item's own tick means: where that stands, taking it out for one copy leaves
 * the item's other copies in. @param copies a query for their ids
 */
async function changeCopies(db: Connection, jobId: number, copies: SQL, chosen: boolean): Promise<void> {
  if (chosen)
    await db.execute(sql`
      insert into tray_entries (job_id, item_id, copy_id) select job_id, item_id, id from copies c
      where c.job_id = ${jobId} and c.id in (${copies}) and c.item_id is not null
        and not exists (select 1 from tray_entries t join items i on i.id = t.item_id
          where t.job_id = ${jobId} and t.item_id = c.item_id and coalesce(t.copy_id, i.best_copy_id) = c.id)
      on conflict do nothing`);
  else
    await db.execute(sql`
      delete from tray_entries t using items i
      where t.job_id = ${jobId} and i.id = t.item_id and coalesce(t.copy_id, i.best_copy_id) in (${copies})`);
}

interface Place {
  readonly id: number;
  readonly home: number;
  readonly folder: string;
  readonly name: string;
}

/** Puts copies into the tray with the places an application expects them in; or takes them out. */
async function chooseExpected(db: Database, jobId: number, change: Extract<TrayChange, { expected: unknown }>): Promise<void> {
  const { rows } = await db.execute<{ home: number; folder: string; name: string }>(sql`
    select f.home_id as home, f.path as folder, c.name from copies c join folders f on f.id = c.folder_id
    where c.job_id = ${jobId} and c.id = ${change.database}`);
  const [database] = rows;
  if (!database) throw new Problem("This database is no longer known in this job.", 404);
  const places: Place[] = [];
  const copies: number[] = [];
  for (const { copyId, path } of change.expected) {
    copies.push(copyId);
    if (path !== null) {
      const place = expectedPlace(path, database.folder);
      if (place) places.push({ id: copyId, home: database.home, ...place });
      continue;
    }
    places.push({ id: copyId, ...database });
    for (const { id, name } of await besideOf(db, copyId)) {
      copies.push(id);
      places.push({ id, ...database, name: `${database.name}${companionSuffix(name)}` });
    }
  }
  await db.transaction(async (tx) => {
    await changeCopies(tx, jobId, sql`select unnest(${idArray(copies)})`, change.chosen);
    if (change.chosen)
      await tx.execute(sql`
        update tray_entries t set place_home = p.home, place_folder = p.folder, place_name = p.name
        from jsonb_to_recordset(${JSON.stringify(places)}::jsonb) as p(id bigint, home int, folder text, name text) join copies c on c.id = p.id
        where c.job_id = ${jobId} and t.job_id = ${jobId} and t.item_id = c.item_id
          and (t.copy_id = c.id or (t.copy_id is null and (select i.best_copy_id from items i where i.id = t.item_id) = c.id))`);
  });
}

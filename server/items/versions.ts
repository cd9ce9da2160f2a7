import { sql } from "drizzle-orm";
import type { Connection } from "../database/connection";
import type { Item } from "./contract";
import { type ItemRow, itemOf } from "./item-row";
import { setWords } from "./set-words";

/** A row of a list of versions: its item, and the copy the row is. */
export interface VersionRow extends ItemRow {
  copy_id: string;
  place: Item["marks"][number]["place"];
  state_live: boolean;
  from: string | null;
  until: string | null;
  set: string | null;
}

export const VERSION_COLUMNS = sql`i.item_id as id, i.id as copy_id, i.name, f.path as folder, i.kind, i.lost, i.copies, i.best_copy_id, i.size, i.modified, i.condition,
  i.survival, i.facts, t.in_tray, t.chosen, i.opens, i.live and i.present is null as live, i.live as state_live, i.created, i.deleted_at, h.label as volume, i.place,
  lower(i.present) as from, upper(i.present) as until, i.store_id || '-' || i.set_key as set`;
export const VERSION_JOINS = sql`join folders f on f.id = i.folder_id join homes h on h.id = f.home_id cross join lateral (
  select coalesce(bool_or(coalesce(e.copy_id, i.best_copy_id) = i.id), false) as in_tray, count(distinct coalesce(e.copy_id, i.best_copy_id))::int as chosen
  from tray_entries e where e.job_id = i.job_id and e.item_id = i.item_id) t`;

/** Rows of versions, as a list shows them: on the time axis only the version itself stands. */
export async function versionsOf(db: Connection, jobId: number, rows: readonly VersionRow[]): Promise<Item[]> {
  const words = rows.some(({ set }) => set !== null) ? await setWords(db, jobId) : null;
  return rows.map((row) => {
    const { place, condition, survival } = row;
    const item = itemOf(row);
    const stood = row.from === null ? null : { from: new Date(row.from), until: row.until === null ? null : new Date(row.until) };
    return {
      ...item,
      version: { copyId: Number(row.copy_id), place, stood, set: row.set === null ? null : (words?.get(row.set) ?? null) },
      marks: [{ at: item.modified?.getTime() ?? null, place, condition, survival, live: row.state_live }],
    };
  });
}

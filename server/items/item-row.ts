import { sql } from "drizzle-orm";
import type { Item } from "./contract";

/** An item as a query with `ITEM_COLUMNS` gives it. */
export interface ItemRow extends Record<string, unknown> {
  id: string;
  name: string;
  folder: string;
  kind: string;
  lost: boolean;
  copies: number;
  best_copy_id: string;
  size: string;
  modified: Date | null;
  condition: Item["condition"];
  survival: number;
  in_tray: boolean;
  chosen: number;
  opens: Item["opens"];
  live: boolean;
  created: string | null;
  deleted_at: string | null;
  volume: string;
  facts: Item["facts"];
}

export const itemOf = (row: ItemRow): Omit<Item, "marks"> => ({
  id: Number(row.id),
  name: row.name,
  folder: row.folder,
  kind: row.kind,
  lost: row.lost,
  copies: row.copies,
  bestCopyId: Number(row.best_copy_id),
  size: Number(row.size),
  modified: row.modified ? new Date(row.modified) : null,
  condition: row.condition,
  survival: row.survival,
  inTray: row.in_tray,
  alsoInTray: row.chosen - (row.in_tray ? 1 : 0),
  opens: row.opens,
  live: row.live,
  created: row.created ? new Date(row.created) : null,
  deletedAt: row.deleted_at ? new Date(row.deleted_at) : null,
  volume: row.volume,
  facts: row.facts,
});

export const ITEM_COLUMNS = sql`i.id, i.name, f.path as folder, i.kind, i.lost, i.copies, i.best_copy_id, i.size, i.modified, i.condition,
  i.survival, i.facts, t.in_tray, t.chosen, i.opens, i.live, i.created, i.deleted_at, h.label as volume`;
export const ITEM_JOINS = sql`join folders f on f.id = i.folder_id join homes h on h.id = f.home_id cross join lateral (
  select coalesce(bool_or(coalesce(e.copy_id, i.best_copy_id) = i.best_copy_id), false) as in_tray, count(distinct coalesce(e.copy_id, i.best_copy_id))::int as chosen
  from tray_entries e where e.job_id = i.job_id and e.item_id = i.id) t`;
export const ITEM_TABLES = sql`items i ${ITEM_JOINS}`;

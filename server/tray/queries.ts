import { sql } from "drizzle-orm";
import type { Connection } from "../database/connection";
import { freeBytesIn } from "../restores/delivery";
import { readSettings } from "../settings";
import type { Tray } from "./contract";

export async function findTray(db: Connection, jobId: number): Promise<Tray> {
  const { rows } = await db.execute<{ count: number; several: number; bytes: string }>(sql`
    select count(*)::int as count, count(distinct t.item_id) filter (where i.copies > 1)::int as several, coalesce(sum(case when t.copy_id is null then i.size else c.size end), 0)::bigint as bytes
    from tray_entries t join items i on i.id = t.item_id left join copies c on c.id = t.copy_id where t.job_id = ${jobId}`);
  const { rows: checks } = await db.execute<{ count: number }>(sql`select count(*)::int as count from copy_checks where job_id = ${jobId}`);
  const [row] = rows;
  return {
    count: row?.count ?? 0,
    several: row?.several ?? 0,
    bytes: Number(row?.bytes ?? 0),
    checking: checks[0]?.count ?? 0,
    freeBytes: freeBytesIn(readSettings().COMPASS_DELIVERY),
  };
}

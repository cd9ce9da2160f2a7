import { sql } from "drizzle-orm";
import type { Connection } from "../database/connection";

/** Says which package each file of a restore goes to, in order, so that none holds more than the limit but for a single file that does. */
export async function assignBags(tx: Connection, restoreId: number, limit: number | null): Promise<void> {
  if (limit === null) return;
  const { rows } = await tx.execute<{ id: string; size: string }>(
    sql`select id, size from restore_results where restore_id = ${restoreId} order by id`,
  );
  let bag = 1;
  let inBag = 0;
  let first = 0;
  const ranges: { bag: number; from: number; to: number }[] = [];
  for (const row of rows) {
    const [id, size] = [Number(row.id), Number(row.size)];
    if (inBag > 0 && inBag + size > limit) {
      bag += 1;
      inBag = 0;
    }
    if (ranges[bag - 1] === undefined) {
      first = id;
      ranges.push({ bag, from: first, to: id });
    } else ranges[bag - 1] = { bag, from: first, to: id };
    inBag += size;
  }
  await tx.execute(sql`
    update restore_results r set bag = b.bag from jsonb_to_recordset(${JSON.stringify(ranges)}::jsonb) as b(bag int, "from" bigint, "to" bigint)
    where r.restore_id = ${restoreId} and r.id between b."from" and b."to"`);
}

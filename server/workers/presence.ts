import { sql } from "drizzle-orm";
import type { Connection } from "../database/connection";
import { readSettings } from "../settings";

/** What the database's sessions of a worker are called. At most 63 bytes. */
export const sessionName = (workerId: string): string => `compass ${workerId}`;

/** Says that this worker lives. */
export async function beat(
  db: Connection,
  worker: { id: string; host: string; pid: number; queueNames: readonly string[] },
): Promise<void> {
  const names = JSON.stringify(worker.queueNames);
  await db.execute(sql`
    insert into workers (id, host, pid, queue_names) values (${worker.id}, ${worker.host}, ${worker.pid}, array(select jsonb_array_elements_text(${names}::jsonb)))
    on conflict (id) do update set last_seen = now(), queue_names = excluded.queue_names`);
}

export async function leave(db: Connection, workerId: string): Promise<void> {
  await db.execute(sql`delete from workers where id = ${workerId}`);
}

/** Frees the work of workers not seen for a while, so that it goes on elsewhere. @returns how many were dead */
export async function releaseDead(db: Connection): Promise<number> {
  const { rows } = await db.execute<{ id: string; queue_names: string[] }>(sql`
    delete from workers where last_seen < now() - make_interval(secs => ${readSettings().COMPASS_DEAD_AFTER}) returning id, queue_names`);
  // One that is held still, and not dead, may hold locks in the middle of a batch: its sessions are ended, and the batch is undone.
  const sessions = JSON.stringify(rows.map(({ id }) => sessionName(id)));
  if (rows.length > 0)
    await db.execute(
      sql`select pg_terminate_backend(pid) from pg_stat_activity where application_name in (select jsonb_array_elements_text(${sessions}::jsonb))`,
    );
  // A worker may have died before its first sign of life: its names are in no row, only in the work it holds.
  const { rows: unknown } = await db.execute<{ locked_by: string }>(sql`
    select distinct locked_by from graphile_worker.jobs
    where locked_at < now() - make_interval(secs => ${readSettings().COMPASS_DEAD_AFTER})
      and locked_by not in (select unnest(queue_names) from workers)`);
  const names = [...rows.flatMap((row) => row.queue_names), ...unknown.map((row) => row.locked_by)];
  if (names.length > 0)
    await db.execute(
      sql`select graphile_worker.force_unlock_workers(array(select jsonb_array_elements_text(${JSON.stringify(names)}::jsonb)))`,
    );
  return rows.length;
}

/** How many workers are alive. */
export async function countWorkers(db: Connection): Promise<number> {
  const { rows } = await db.execute<{ count: number }>(sql`
    select count(*)::int as count from workers where last_seen >= now() - make_interval(secs => ${readSettings().COMPASS_DEAD_AFTER})`);
  return rows[0]?.count ?? 0;
}

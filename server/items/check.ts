import { type SQL, sql } from "drizzle-orm";
import { runTask } from "../content/pool";
import type { Connection, Database } from "../database/connection";
import { gatherCopies } from "../passes/best-copy";
import { announce, enqueue } from "../workers/queue";
import type { Judgement } from "./judge-content";

/** Copies whose content nobody has looked at, and which have some. */
const UNCHECKED = sql`(c.evidence->>'content' is null and c.layout is not null and c.size > 0 and c.condition <> 'name-only' and c.type = 'file')`;

/** Asks for the contents of copies to be looked at, in the background. @param copies a query for their ids */
export async function askToCheck(db: Connection, jobId: number, copies: SQL): Promise<void> {
  // Each is looked up by itself: the database thinks that hardly any copy is unchecked, and would go through those asked for anew for each.
  const { rowCount } = await db.execute(sql`
    with asked (id) as materialized (${copies})
    insert into copy_checks (job_id, copy_id) select ${jobId}::int, u.id from (select distinct id from asked) a
    cross join lateral (select c.id from copies c where c.id = a.id and c.job_id = ${jobId} and ${UNCHECKED} limit 1) u on conflict do nothing`);
  if (rowCount) await enqueue(db, "check", jobId);
}

/**
 * Asks for what is in a job's tray to be looked at, as it may be handed over.
 * @param since what was put in from then on alone: a moment of the database's own clock, in its words
 */
export const askToCheckTray = (db: Connection, jobId: number, since: string | null = null): Promise<void> =>
  askToCheck(
    db,
    jobId,
    sql`select coalesce(t.copy_id, i.best_copy_id) from tray_entries t join items i on i.id = t.item_id
      where t.job_id = ${jobId} and (${since}::timestamptz is null or t.added_at >= ${since}::timestamptz)`,
  );

/** The next copies to look at. */
export async function copiesToCheck(db: Connection, jobId: number, limit: number): Promise<number[]> {
  const { rows } = await db.execute<{ id: string }>(
    sql`select copy_id as id from copy_checks where job_id = ${jobId} order by copy_id limit ${limit}`,
  );
  return rows.map(({ id }) => Number(id));
}

/** Looks at a copy's content, where nobody has, and keeps what that came to. */
export async function checkCopy(db: Database, jobId: number, copyId: number): Promise<void> {
  const judged = await runTask("judge", [copyId]).catch((error: Error) => error);
  await db.transaction(async (tx) => {
    await tx.execute(sql`delete from copy_checks where job_id = ${jobId} and copy_id = ${copyId}`);
    if (judged === null) return;
    if (judged instanceof Error) {
      // A source that is not there now is no fault of the file's: it says so, and can be asked again.
      const words = `Whether it opens could not be checked: ${judged.message}`;
      await tx.execute(
        sql`update copies set notes = notes || ${JSON.stringify([words])}::jsonb where id = ${copyId} and not notes ? ${words}`,
      );
      return;
    }
    await keepJudgement(tx, judged);
  });
  await announce(db, jobId);
}

/** Keeps what is known of a copy now, and what its item says of it. */
export async function keepJudgement(tx: Connection, { copyId, condition, survival, evidence, notes }: Judgement): Promise<void> {
  await tx.execute(sql`
    update copies c set condition = ${condition}, survival = ${survival}, evidence = ${JSON.stringify(evidence)}::jsonb,
      notes = notes || (select coalesce(jsonb_agg(n), '[]') from jsonb_array_elements(${JSON.stringify(notes)}::jsonb) n where not c.notes @> jsonb_build_array(n))
    where c.id = ${copyId}`);
  await tx.execute(sql`
    update items i set condition = c.condition, survival = c.survival from copies c where c.id = ${copyId} and i.best_copy_id = c.id and i.overruled`);
  await tx.execute(sql.raw(gatherCopies(`select item_id as id from copies where id = ${Math.trunc(copyId)} and item_id is not null`)));
}

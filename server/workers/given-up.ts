import { eq, sql } from "drizzle-orm";
import type { Database } from "../database/connection";
import { passes, restores } from "../database/schema";
import { note } from "../log/commands";
import { failRestore } from "../restores/slice";
import { announce, TASK } from "./queue";

const WHY =
  "Its worker was ended again and again while it worked on this, and it is not tried any more by itself. See what ends it (memory, power, the drive that is read), then try again.";

/**
 * Ends in words what the queue has given up: its workers were ended as often as it may be begun, so that nobody says how it stands.
 * @returns how much that is
 */
export async function endGivenUp(db: Database): Promise<number> {
  const { rows } = await db.execute<{ id: string; key: string | null; task_identifier: string }>(sql`
    select id, key, task_identifier from graphile_worker.jobs
    where attempts >= max_attempts and locked_at is null and task_identifier in (${TASK.pass}, ${TASK.restore}) limit 100`);
  for (const { id, key, task_identifier: task } of rows) {
    // One without a key was asked for anew while a worker had it, which has died since: the newer one does the work.
    if (key !== null) {
      const of = Number(key.slice(key.indexOf(":") + 1));
      if (task === TASK.restore) await endRestore(db, of);
      else await endPass(db, of);
    }
    await db.execute(sql`select graphile_worker.complete_jobs(array[${id}]::bigint[])`);
  }
  return rows.filter(({ key }) => key !== null).length;
}

async function endRestore(db: Database, id: number): Promise<void> {
  const [restore] = await db.select().from(restores).where(eq(restores.id, id));
  if (restore?.state === "running" || restore?.state === "queued") await failRestore(db, restore, WHY);
}

async function endPass(db: Database, id: number): Promise<void> {
  await db.transaction(async (tx) => {
    const [pass] = await tx.select().from(passes).where(eq(passes.id, id)).for("update");
    if (pass?.state !== "running" && pass?.state !== "queued") return;
    // Who should still be at it may store nothing any more.
    await tx
      .update(passes)
      .set({ state: "failed", problem: WHY, workerId: null, epoch: sql`${passes.epoch} + 1` })
      .where(eq(passes.id, id));
    await note(tx, pass.jobId, "Pass failed", { pass: id, problem: WHY });
    await announce(tx, pass.jobId);
  });
}

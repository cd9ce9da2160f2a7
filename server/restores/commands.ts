import { and, eq, inArray, sql } from "drizzle-orm";
import type { Database } from "../database/connection";
import { restoreResults, restores } from "../database/schema";
import { note } from "../log/commands";
import { Problem } from "../problem";
import { announce, enqueue } from "../workers/queue";
import type { RestorePlan } from "./contract";
import { plannedFiles, rehearse } from "./queries";

/** Starts writing the tray to a destination. @returns the restore's id */
export async function startRestore(db: Database, jobId: number, plan: RestorePlan): Promise<number> {
  const { refused } = await rehearse(db, jobId, plan);
  if (refused) throw new Problem(refused, 409);
  return db.transaction(async (tx) => {
    const files = await plannedFiles(tx, jobId, plan.streams);
    if (files.length === 0) throw new Problem("The tray is empty: choose items first.");
    const [row] = await tx
      .insert(restores)
      .values({ jobId, destination: plan.destination, conflict: plan.conflict })
      .returning({ id: restores.id });
    const { id } = row as { id: number };
    for (let at = 0; at < files.length; at += 1000) {
      await tx.insert(restoreResults).values(
        files.slice(at, at + 1000).map(({ components: _, problem, ...file }) => ({
          restoreId: id,
          ...file,
          conflict: plan.choices[file.itemId] ?? null,
          problem,
          state: problem ? ("failed" as const) : ("waiting" as const),
        })),
      );
    }
    await enqueue(tx, "restore", id);
    await note(tx, jobId, "Restore started", { restore: id, files: files.length, destination: plan.destination });
    await announce(tx, jobId);
    return id;
  });
}

/** Tries the failed files of a restore once more. */
export async function retryRestore(db: Database, restoreId: number): Promise<void> {
  await db.transaction(async (tx) => {
    const [restore] = await tx.select().from(restores).where(eq(restores.id, restoreId)).for("update");
    if (!restore) throw new Problem("There is no such restore.", 404);
    if (restore.state === "queued" || restore.state === "running") throw new Problem("This restore is still running.", 409);
    await tx
      .update(restoreResults)
      .set({ state: "waiting", problem: null })
      .where(
        and(eq(restoreResults.restoreId, restoreId), eq(restoreResults.state, "failed"), sql`${restoreResults.condition} <> 'name-only'`),
      );
    await tx
      .update(restores)
      .set({ state: "queued", problem: null, finishedAt: null })
      .where(inArray(restores.id, [restoreId]));
    await enqueue(tx, "restore", restoreId);
    await note(tx, restore.jobId, "Restore tried again", { restore: restoreId });
    await announce(tx, restore.jobId);
  });
}

import { and, eq, inArray, sql } from "drizzle-orm";
import type { Connection, Database } from "../database/connection";
import { restoreResults, restores } from "../database/schema";
import { note } from "../log/commands";
import { Problem } from "../problem";
import { announce, enqueue } from "../workers/queue";
import { assignBags } from "./bags";
import type { RestoreChange } from "./contract";
import { checkDestination, type Destination, destinationRoot, freeBytesIn } from "./delivery";
import { refusalFor } from "./guards";

const WORDS: Readonly<Record<Exclude<RestoreChange["what"], "elsewhere">, string>> = {
  pause: "Restore asked to pause",
  resume: "Restore continued",
  stop: "Restore stopped",
};
type Row = typeof restores.$inferSelect;

/**
 * Pauses, continues or stops a restore, or has what is left of it written to another folder. A worker that is writing follows after the
 * files it has in hand.
 * @returns the id of the restore that goes on: another one where the rest goes elsewhere
 */
export async function changeRestore(db: Database, restoreId: number, change: RestoreChange): Promise<number> {
  return db.transaction(async (tx) => {
    const [restore] = await tx.select().from(restores).where(eq(restores.id, restoreId)).for("update");
    if (!restore) throw new Problem("There is no such restore.", 404);
    if (restore.state === "done" || restore.state === "failed") throw new Problem("This restore has ended already.", 409);
    const id = change.what === "elsewhere" ? await goElsewhere(tx, restore, change) : await ask(tx, restore, change.what);
    await announce(tx, restore.jobId);
    return id;
  });
}

async function ask(tx: Connection, restore: Row, what: "pause" | "resume" | "stop"): Promise<number> {
  const running = restore.state === "running";
  const set = {
    pause: running ? { wanted: "pause" as const } : { state: "paused" as const, waits: false },
    resume: running ? { wanted: "run" as const } : { state: "queued" as const, wanted: "run" as const, waits: false, problem: null },
    // A worker ends it, so that what is written gets its list or its package.
    stop: { wanted: "stop" as const, waits: false, ...(running ? {} : { state: "queued" as const }) },
  }[what];
  await tx.update(restores).set(set).where(eq(restores.id, restore.id));
  if (!running && what !== "pause") await enqueue(tx, "restore", restore.id);
  await note(tx, restore.jobId, WORDS[what], { restore: restore.id });
  return restore.id;
}

/** Starts a restore of what another one has not written, into another folder; the other one ends with what it has. */
async function goElsewhere(tx: Connection, restore: Row, to: Destination): Promise<number> {
  if (restore.state === "running") throw new Problem("Files are being written now: pause this restore first.", 409);
  checkDestination(to);
  const root = destinationRoot(to);
  const open = and(eq(restoreResults.restoreId, restore.id), inArray(restoreResults.state, ["waiting", "writing"]));
  const [left] = await tx
    .select({ files: sql<number>`count(*)::int`, bytes: sql<string>`coalesce(sum(${restoreResults.size}), 0)` })
    .from(restoreResults)
    .where(open);
  const free = freeBytesIn(root);
  const tooLarge =
    free !== null && Number(left?.bytes) > free ? "There is not enough free space there for the files that are left either." : null;
  const refused = (await refusalFor(tx, restore.jobId, root)) ?? tooLarge;
  if (refused) throw new Problem(refused, 409);
  const { jobId, conflict, layout, names, form, bagLimit, streams, repaired, asFound } = restore;
  const [made] = await tx
    .insert(restores)
    .values({
      jobId,
      destination: to.destination,
      delivery: to.delivery,
      conflict,
      layout,
      names,
      form,
      bagLimit,
      streams,
      repaired,
      asFound,
    })
    .returning({ id: restores.id });
  const id = (made as { id: number }).id;
  await tx.update(restoreResults).set({ restoreId: id, state: "waiting", output: null, sha256: null, gaps: null }).where(open);
  await assignBags(tx, id, bagLimit);
  await tx.update(restores).set({ state: "queued", wanted: "run", waits: false, problem: null }).where(eq(restores.id, restore.id));
  await enqueue(tx, "restore", restore.id);
  await enqueue(tx, "restore", id);
  await note(tx, jobId, "Restore goes on elsewhere", {
    restore: id,
    files: left?.files ?? 0,
    destination: to.destination,
    delivery: to.delivery,
  });
  return id;
}

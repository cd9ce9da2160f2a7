import { and, eq, inArray, sql } from "drizzle-orm";
import type { Database } from "../database/connection";
import { passes, sources, stores } from "../database/schema";
import { note } from "../log/commands";
import { Problem } from "../problem";
import { announce, enqueue } from "../workers/queue";
import { formOf, type PassOptions, type PassPlace, passKind, passWords } from "./contract";

/** What a pass was narrowed to: the order in which it reads leaves out nothing. */
const WITHOUT_ORDER = sql`${passes.options} - 'newestFirst'`;

/** Starts reading a volume for one kind of place. @returns the pass's id */
export async function startPass(
  db: Database,
  jobId: number,
  storeId: number,
  place: PassPlace = "file-record",
  options: PassOptions = {},
): Promise<number> {
  return db.transaction(async (tx) => {
    const [found] = await tx
      .select({ volume: stores, source: sources })
      .from(stores)
      .innerJoin(sources, eq(sources.id, stores.sourceId))
      .where(and(eq(stores.id, storeId), eq(sources.jobId, jobId)))
      .for("update");
    if (!found) throw new Problem("This volume is not part of the job.", 404);
    if (found.volume.closed) throw new Problem(found.volume.closed);
    // Content is found without any file system; everything else needs the volume's own records.
    if (!found.volume.readable && passKind(place).needs === "records")
      throw new Problem(found.volume.notes[0] ?? "The records of this volume cannot be read.");
    const form = formOf(found.source.container, found.volume.filesystem);
    if (!passKind(place).on.includes(form))
      throw new Problem(
        `There are no ${passKind(place).words.noun} in ${form === "backup" ? "a backup file" : form === "folder" ? "a folder" : "a volume"}.`,
      );
    const earlier = await tx
      .select({ id: passes.id })
      .from(passes)
      .where(
        and(
          eq(passes.storeId, storeId),
          eq(passes.place, place),
          // A narrowed pass leaves the rest to others; the same one twice would store everything twice. A sweep leaves out by itself
          // what was swept, and another may look closer.
          sql`(${passKind(place).goesOnFromOthers !== true} and ${WITHOUT_ORDER} = '{}'::jsonb or ${WITHOUT_ORDER} = ${JSON.stringify(options)}::jsonb - 'newestFirst')`,
          inArray(passes.state, ["queued", "running", "paused", "done"]),
        ),
      );
    if (earlier.length > 0 && !options.again)
      throw new Problem(
        form === "backup"
          ? `${passWords(place, form).title}: done already, or being done for this file. See the list of passes.`
          : `The ${passKind(place).words.noun} of this volume are read already, or being read: see the list of passes.`,
        409,
      );
    const [row] = await tx
      .insert(passes)
      .values({ jobId, sourceId: found.source.id, storeId, place, options })
      .returning({ id: passes.id });
    const { id } = row as { id: number };
    await enqueue(tx, "pass", id);
    await note(tx, jobId, "Pass started", {
      pass: id,
      place,
      volume: found.volume.label ?? found.volume.number,
      source: found.source.name,
    });
    await announce(tx, jobId);
    return id;
  });
}

/** Pauses, continues or stops a pass. What was found stays in any case. */
export async function changePass(db: Database, passId: number, wanted: "run" | "pause" | "stop"): Promise<void> {
  await db.transaction(async (tx) => {
    const [pass] = await tx.select().from(passes).where(eq(passes.id, passId)).for("update");
    if (!pass) throw new Problem("There is no such pass.", 404);
    const { state } = pass;
    if (state === "done" || state === "stopped")
      throw new Problem(`This pass is ${state === "done" ? "finished" : "stopped"} already.`, 409);
    if (wanted === "run") {
      if (state === "running" && pass.wanted === "run") return;
      // A worker that has not noticed the pause yet just goes on.
      await tx
        .update(passes)
        .set({ wanted, ...(state === "running" ? {} : { state: "queued" as const, problem: null, declined: [] }) })
        .where(eq(passes.id, passId));
      if (state !== "running") await enqueue(tx, "pass", passId);
    } else {
      // One that no worker holds changes at once; a running one at its worker's next batch. A sweep with finds in hand gives them out first.
      const inHand = wanted === "stop" && (pass.sighted?.count ?? 0) > 0;
      if (inHand && state !== "running") await enqueue(tx, "pass", passId);
      const settled = wanted === "pause" ? ("paused" as const) : inHand ? ("queued" as const) : ("stopped" as const);
      await tx
        .update(passes)
        .set({ wanted, ...(state === "running" ? {} : { state: settled, ...(settled === "stopped" ? { finishedAt: sql`now()` } : {}) }) })
        .where(eq(passes.id, passId));
    }
    await note(tx, pass.jobId, { run: "Pass continued", pause: "Pass paused", stop: "Pass stopped" }[wanted], { pass: passId });
    await announce(tx, pass.jobId);
  });
}

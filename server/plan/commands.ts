import { eq, sql } from "drizzle-orm";
import { STEPS } from "../../core/plan/steps";
import type { Database } from "../database/connection";
import { jobs, planMarks } from "../database/schema";
import { note } from "../log/commands";
import { changePass, startPass } from "../passes/commands";
import { Problem } from "../problem";
import { announce } from "../workers/queue";
import { type PlanChange, type PlanStep, STEP_TITLES } from "./contract";
import { findPlan } from "./queries";

/** Does what the technician wants with the plan. */
export async function changePlan(db: Database, jobId: number, change: PlanChange): Promise<void> {
  switch (change.do) {
    case "run":
      await runStep(db, jobId, await stepOf(db, jobId, change.key));
      break;
    case "run all":
      // One after the other, so that the queue takes them in the plan's order.
      for (const step of (await findPlan(db, jobId)).steps) if (step.runs && step.state === "to do") await runStep(db, jobId, step);
      break;
    case "run some": {
      const wanted = new Set(change.keys);
      for (const step of (await findPlan(db, jobId)).steps)
        if (wanted.has(step.key) && step.runs && step.state === "to do") await runStep(db, jobId, step);
      break;
    }
    case "stop all":
      for (const step of (await findPlan(db, jobId)).steps)
        if (step.passId !== null && (step.state === "waiting" || step.state === "running"))
          // One that ended meanwhile needs no stopping.
          await changePass(db, step.passId, "stop").catch((error: unknown) => {
            if (!(error instanceof Problem)) throw error;
          });
      break;
    case "skip": {
      const step = await stepOf(db, jobId, change.key);
      await mark(db, jobId, change.key, { skipped: change.why });
      await note(db, jobId, "Step skipped", { step: step.title, where: step.where, why: change.why });
      break;
    }
    case "take up":
      await mark(db, jobId, change.key, { skipped: null, doneByHand: null });
      await note(db, jobId, "Step taken up again", { step: change.key });
      break;
    case "done by hand": {
      const step = await stepOf(db, jobId, change.key);
      if (step.runs) throw new Problem("This step is done by the bench: start it instead.");
      await mark(db, jobId, change.key, { doneByHand: change.note, skipped: null });
      await note(db, jobId, "Step done by hand", { step: step.title, result: change.note });
      break;
    }
    case "order":
      await db.transaction(async (tx) => {
        for (const [position, key] of change.keys.entries()) await mark(tx, jobId, key, { position });
      });
      break;
    case "add":
      await mark(db, jobId, change.kind, { added: true });
      await note(db, jobId, "Step added", { step: STEP_TITLES[change.kind] });
      break;
    case "found":
      await setFound(db, jobId, change.itemId);
      break;
  }
  await announce(db, jobId);
}

async function stepOf(db: Database, jobId: number, key: string): Promise<PlanStep> {
  const step = (await findPlan(db, jobId)).steps.find((each) => each.key === key);
  if (!step) throw new Problem("This step is not in the plan any more. The account was changed meanwhile.", 404);
  return step;
}

async function runStep(db: Database, jobId: number, step: PlanStep): Promise<void> {
  const { by, places } = STEPS[step.kind];
  if (by === "hand" || step.storeId === null) throw new Problem("This step is done by hand.");
  await mark(db, jobId, step.key, { skipped: null });
  await startPass(db, jobId, step.storeId, by, places.length > 0 ? { places: [...places] } : {});
}

type Values = Partial<Pick<typeof planMarks.$inferInsert, "position" | "skipped" | "doneByHand" | "added">>;

async function mark(db: Pick<Database, "insert">, jobId: number, stepKey: string, values: Values): Promise<void> {
  await db
    .insert(planMarks)
    .values({ jobId, stepKey, ...values })
    .onConflictDoUpdate({ target: [planMarks.jobId, planMarks.stepKey], set: values });
}

/** Marks the item that was looked for; the steps left are not needed any more. */
async function setFound(db: Database, jobId: number, itemId: number | null): Promise<void> {
  if (itemId !== null) {
    const { rows } = await db.execute<{ name: string }>(sql`select name from items where id = ${itemId} and job_id = ${jobId}`);
    if (!rows[0]) throw new Problem("There is no such item in this job.", 404);
    await note(db, jobId, "Found what was looked for", { item: rows[0].name });
  } else await note(db, jobId, "The search goes on", {});
  await db.update(jobs).set({ foundItemId: itemId }).where(eq(jobs.id, jobId));
}

import { z } from "zod";
import { PLACES } from "../../core/copies/vocabulary";
import { timeFor } from "../../core/plan/plan";
import { CHANCES, STEP_KINDS, STEPS, type StepKind } from "../../core/plan/steps";

export { timeFor };

/** The kinds of step a technician can add. */
export const STEP_TITLES: Readonly<Record<StepKind, string>> = Object.fromEntries(
  STEP_KINDS.map((kind) => [kind, STEPS[kind].title]),
) as Record<StepKind, string>;

export const STEP_STATES = ["to do", "waiting", "running", "paused", "done", "skipped", "not needed", "failed"] as const;

const planStep = z.object({
  key: z.string(),
  kind: z.enum(STEP_KINDS),
  title: z.string(),
  where: z.string(),
  reason: z.string(),
  chance: z.enum(CHANCES),
  chanceReason: z.string(),
  seconds: z.number().nullable(),
  cannotFind: z.string(),
  /** Done by a pass of the bench; otherwise by hand. */
  runs: z.boolean(),
  storeId: z.number().nullable(),
  state: z.enum(STEP_STATES),
  /** Why it is skipped, or what came of it by hand. */
  note: z.string().nullable(),
  passId: z.number().nullable(),
  /** Share of the pass that is done, 0 … 1. */
  progress: z.number(),
  /** Copies found, by kind of place. */
  found: z.array(z.object({ place: z.enum(PLACES), count: z.number() })),
});
export type PlanStep = z.infer<typeof planStep>;

export const plan = z.object({
  steps: z.array(planStep),
  against: z.array(z.string()),
  warnings: z.array(z.string()),
  /** Milliseconds a byte takes, by the kind of pass, as measured on this bench. */
  speeds: z.record(z.string(), z.number()),
  /** What was looked for, once it is found. */
  found: z.object({ itemId: z.number(), name: z.string(), folder: z.string() }).nullable(),
});
export type Plan = z.infer<typeof plan>;

const key = z.string().min(1).max(100);
/** What a technician does with the plan. */
export const planChange = z.discriminatedUnion("do", [
  z.object({ do: z.literal("run"), key }),
  z.object({ do: z.literal("run all") }),
  z.object({ do: z.literal("run some"), keys: z.array(key).max(500) }),
  /** Stops what runs and what waits; what was found stays. */
  z.object({ do: z.literal("stop all") }),
  z.object({ do: z.literal("skip"), key, why: z.string().trim().min(1, "Say why it is skipped.").max(500) }),
  z.object({ do: z.literal("take up"), key }),
  z.object({ do: z.literal("done by hand"), key, note: z.string().trim().max(500) }),
  z.object({ do: z.literal("order"), keys: z.array(key).max(500) }),
  z.object({ do: z.literal("add"), kind: z.enum(STEP_KINDS) }),
  z.object({ do: z.literal("found"), itemId: z.number().int().nullable() }),
]);
export type PlanChange = z.infer<typeof planChange>;

/** An item with how well it fits what the client remembers. */
export const fits = z.array(
  z.object({
    itemId: z.number(),
    /** The copy that is meant; null: the item's best one. */
    copyId: z.number().nullable(),
    name: z.string(),
    folder: z.string(),
    kind: z.string(),
    modified: z.coerce.date().nullable(),
    condition: z.string(),
    places: z.array(z.enum(PLACES)),
    /** 0 … 1. */
    score: z.number(),
    reasons: z.array(z.string()),
  }),
);
export type Fits = z.infer<typeof fits>;

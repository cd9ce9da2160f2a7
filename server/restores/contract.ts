import { z } from "zod";

export const CONFLICTS = ["keep-both", "skip", "replace"] as const;

export const plan = z.object({
  /** A folder name below the delivery folder; made when it is not there. */
  destination: z.string().trim().min(1, "Name a folder to restore into.").max(200),
  conflict: z.enum(CONFLICTS).default("keep-both"),
  /** Whether the named streams of files are written too, as files beside them. */
  streams: z.boolean().default(false),
  /** For single items something else than that, by item id. */
  choices: z.record(z.string().regex(/^\d+$/), z.enum(CONFLICTS)).default({}),
});
export type RestorePlan = z.infer<typeof plan>;
export type Conflict = (typeof CONFLICTS)[number];

export const rehearsedFile = z.object({
  itemId: z.number(),
  /** Which named stream of the item it is; null: its content. */
  stream: z.number().nullable(),
  path: z.string(),
  target: z.string(),
  size: z.number(),
  condition: z.string(),
  /** Why it will not be written; null when it will. */
  problem: z.string().nullable(),
  exists: z.boolean(),
});
export const rehearsal = z.object({
  root: z.string(),
  files: z.array(rehearsedFile),
  /** Named streams the chosen items have, whether they are written or not. */
  streams: z.number(),
  bytes: z.number(),
  freeBytes: z.number().nullable(),
  /** Why nothing can be written there at all. */
  refused: z.string().nullable(),
});
export type Rehearsal = z.infer<typeof rehearsal>;

export const result = z.object({
  id: z.number(),
  itemId: z.number(),
  path: z.string(),
  condition: z.string(),
  size: z.number(),
  state: z.enum(["waiting", "writing", "verified", "skipped", "failed"]),
  output: z.string().nullable(),
  sha256: z.string().nullable(),
  problem: z.string().nullable(),
});
export type Result = z.infer<typeof result>;

export const restore = z.object({
  id: z.number(),
  destination: z.string(),
  root: z.string(),
  state: z.enum(["queued", "running", "done", "failed"]),
  problem: z.string().nullable(),
  createdAt: z.coerce.date(),
  finishedAt: z.coerce.date().nullable(),
  results: z.array(result),
});
export type Restore = z.infer<typeof restore>;
export const restoreList = z.array(restore);

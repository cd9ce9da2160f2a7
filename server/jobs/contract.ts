import { z } from "zod";

const zone = z
  .string()
  .refine((name) => Intl.supportedValuesOf("timeZone").includes(name) || name === "UTC", "This time zone is not known.");
const words = z.string().trim().max(200);
const title = words.min(1, "Give the job a title.");

export const newJob = z.object({
  title,
  client: words.default(""),
  timeZone: zone.optional(),
});

export const jobSummary = z.object({
  id: z.number(),
  title: z.string(),
  client: z.string(),
  timeZone: z.string(),
  lastActivity: z.coerce.date(),
  archived: z.boolean(),
  /** What was lost, as one line; null while the account is empty. */
  lost: z.string().nullable(),
  /** For the handover. */
  technician: z.string(),
  firm: z.string(),
  number: z.string(),
  sources: z.number(),
  /** Whether anything has been read yet. */
  searched: z.boolean(),
  /** Lost items by what is left of them: each file the client had counts once. */
  lostItems: z.object({ whole: z.number(), partial: z.number(), "not-checked": z.number(), "name-only": z.number() }),
  /** Restored files that stand as they were written, as far as was looked: all of their bytes, and those with gaps. */
  restored: z.number(),
  restoredWithGaps: z.number(),
  running: z.number(),
  problems: z.number(),
});
export type JobSummary = z.infer<typeof jobSummary>;

export const changeJob = z.union([
  z.object({ archived: z.boolean() }),
  z.object({ timeZone: zone }),
  z
    .object({
      title: title.optional(),
      client: words.optional(),
      technician: words.optional(),
      firm: words.optional(),
      number: words.optional(),
    })
    .strict()
    .refine((change) => Object.keys(change).length > 0, "Say what is to be changed."),
]);
export type JobChange = z.infer<typeof changeJob>;

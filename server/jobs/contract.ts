import { z } from "zod";

export const newJob = z.object({
  title: z.string().trim().min(1, "Give the job a title.").max(200),
  client: z.string().trim().max(200).default(""),
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
  sources: z.number(),
  lostItems: z.number(),
  restored: z.number(),
  running: z.number(),
  problems: z.number(),
});
export type JobSummary = z.infer<typeof jobSummary>;

export const changeJob = z.union([
  z.object({ archived: z.boolean() }),
  z.object({
    timeZone: z
      .string()
      .refine((zone) => Intl.supportedValuesOf("timeZone").includes(zone) || zone === "UTC", "This time zone is not known."),
  }),
]);
export type JobChange = z.infer<typeof changeJob>;

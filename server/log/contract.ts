import { z } from "zod";

export const logEntry = z.object({
  id: z.number(),
  at: z.coerce.date(),
  what: z.string(),
  detail: z.record(z.string(), z.unknown()),
  /** Its hash over the entry before it and itself; null: it was written before the log was a chain. */
  hash: z.string().nullable(),
});
export type LogEntry = z.infer<typeof logEntry>;

import { z } from "zod";

const logEntry = z.object({ id: z.number(), at: z.coerce.date(), what: z.string(), detail: z.record(z.string(), z.unknown()) });
export type LogEntry = z.infer<typeof logEntry>;

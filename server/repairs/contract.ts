import { z } from "zod";

/** What repairing a copy would come to. */
export const repairLook = z.object({
  /** How a person calls the type of the file. */
  format: z.string(),
  /** It opens as it is; null: it does not, for this reason. */
  before: z.string().nullable(),
  /** Null: nothing can be repaired here. */
  after: z
    .object({
      /** What was done, in plain words. */
      done: z.array(z.string()),
      /** Why the repaired one still does not open; null: it does. */
      problem: z.string().nullable(),
      size: z.number(),
      /** The sound file that lent its header or index. */
      like: z.string().nullable(),
      /** It is a picture that can be looked at. */
      picture: z.boolean(),
    })
    .nullable(),
});
export type RepairLook = z.infer<typeof repairLook>;

/** The repaired file as it was written. */
export const repairWritten = z.object({ output: z.string(), size: z.number(), sha256: z.string() });
export type RepairWritten = z.infer<typeof repairWritten>;

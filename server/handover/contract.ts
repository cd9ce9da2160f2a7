import { z } from "zod";

/** For whom a handover is written: the client in plain words, or the file complete. */
export const AUDIENCES = ["client", "file"] as const;
export type Audience = (typeof AUDIENCES)[number];

const block = z.discriminatedUnion("kind", [
  z.object({ kind: z.literal("text"), text: z.string() }),
  z.object({ kind: z.literal("list"), items: z.array(z.object({ text: z.string(), below: z.array(z.string()) })) }),
  z.object({
    kind: z.literal("table"),
    head: z.array(z.string()),
    rows: z.array(z.array(z.string())),
    /** Said where not all rows are here. */
    cut: z.string().nullable(),
  }),
  /** Places to sign or fill in by hand. */
  z.object({ kind: z.literal("signature"), lines: z.array(z.string()) }),
]);
export type Block = z.infer<typeof block>;

/** A handover as it is read: the same text on the screen, in print and as a file. */
export const handover = z.object({
  title: z.string(),
  lead: z.array(z.string()),
  sections: z.array(z.object({ title: z.string(), blocks: z.array(block) })),
});
export type Handover = z.infer<typeof handover>;

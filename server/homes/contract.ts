import { z } from "zod";

/** A folder of a store, or of a home: "" is the root; without a slash at its end. */
const folder = z
  .string()
  .trim()
  .max(2000)
  .transform((path) =>
    path
      .replaceAll("\\", "/")
      .replace(/\/+$/, "")
      .replace(/^(?=[^/])/, "/"),
  )
  .default("");
const id = z.number().int().positive();

/** What can be changed about the homes of a job. */
export const changeHomes = z.union([
  /** All that is shown of one home is another one's from now on. */
  z.object({ join: id, into: id }),
  /** A store, or a folder of it, is not of its home. */
  z.object({ part: id, below: folder }),
  /** A folder of a store is a folder of a home. */
  z.object({ store: id, below: folder, home: id, at: folder }),
  z.object({ rename: id, label: z.string().trim().min(1, "Give the drive a name.").max(200) }),
]);
export type ChangeHomes = z.infer<typeof changeHomes>;

const shown = z.object({
  storeId: z.number(),
  store: z.string(),
  source: z.string(),
  standing: z.string(),
  below: z.string(),
  at: z.string(),
  /** How it is known to be of this home; null: it is its first store. */
  reason: z.string().nullable(),
});

/** Two homes, or a folder of a store and a home, that may be the same. */
const suggestion = z.object({
  storeId: z.number(),
  store: z.string(),
  below: z.string(),
  homeId: z.number(),
  home: z.string(),
  at: z.string(),
  reason: z.string(),
});
export type Suggestion = z.infer<typeof suggestion>;

export const homeList = z.object({
  homes: z.array(z.object({ id: z.number(), label: z.string(), items: z.number(), stores: z.array(shown) })),
  suggestions: z.array(suggestion),
});
export type HomeList = z.infer<typeof homeList>;

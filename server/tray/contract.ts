import { z } from "zod";
import { itemQuery } from "../items/contract";

/** Which items a change of the tray means. */
export const trayChange = z.intersection(
  z.object({ chosen: z.boolean() }),
  z.union([
    /** With `asOf`, the copy of each that stood at that moment, of those in the source, volume or set. */
    itemQuery.pick({ asOf: true, source: true, volume: true, set: true }).extend({ items: z.array(z.number().int()).max(10_000) }),
    /** Single copies, whichever copy of their item is the best. */
    z.object({ copies: z.array(z.number().int()).max(10_000) }),
    /** All that match a filter; with `between`, only those from one item to another in the list's order. */
    z.object({ matching: itemQuery, between: z.tuple([z.number().int(), z.number().int()]).optional() }),
    z.object({ everything: z.literal(true) }),
    /**
     * Single copies, to be restored where the application of a database expects them: files by the paths its rows have for them (a file whose
     * path leads nowhere on its drive stays in its own place), or another database in its place, with its logs.
     */
    z.object({
      database: z.number().int(),
      expected: z.array(z.object({ copyId: z.number().int(), path: z.string().max(4000).nullable() })).max(10_000),
    }),
  ]),
);
export type TrayChange = z.infer<typeof trayChange>;
export const tray = z.object({
  count: z.number(),
  /** Items in it of which more than one copy is known. */
  several: z.number(),
  bytes: z.number(),
  checking: z.number(),
  freeBytes: z.number().nullable(),
});
export type Tray = z.infer<typeof tray>;

/** Which version of each item is meant: the bench's best copy, the one changed last, that of the whole ones, or that of those before a moment. */
export const VERSION_CHOICES = ["best", "newest", "whole", "before"] as const;
export const versionChoice = z
  .object({ take: z.enum(VERSION_CHOICES), before: itemQuery.shape.asOf })
  .refine(({ take, before }) => take !== "before" || before !== undefined, { message: "Say before which moment." });
export type VersionChoice = z.infer<typeof versionChoice>;
/** Items of which another copy is chosen now, of which it was chosen before, and those that have no such version. */
export const versionsChosen = z.object({ changed: z.number(), same: z.number(), without: z.number() });
export type VersionsChosen = z.infer<typeof versionsChosen>;

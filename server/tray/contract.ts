import { z } from "zod";
import { itemQuery } from "../items/contract";

/** Which items a change of the tray means. */
export const trayChange = z.intersection(
  z.object({ chosen: z.boolean() }),
  z.union([
    /** With `asOf`, the copy of each that stood at that moment. */
    z.object({ items: z.array(z.number().int()).max(10_000), asOf: itemQuery.shape.asOf }),
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
export const tray = z.object({ count: z.number(), bytes: z.number(), checking: z.number(), freeBytes: z.number().nullable() });
export type Tray = z.infer<typeof tray>;

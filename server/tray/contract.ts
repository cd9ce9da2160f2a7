import { z } from "zod";

export const changeTray = z.object({ items: z.array(z.number().int()).max(10_000), chosen: z.boolean() });
export const tray = z.object({ count: z.number(), bytes: z.number(), freeBytes: z.number().nullable() });
export type Tray = z.infer<typeof tray>;

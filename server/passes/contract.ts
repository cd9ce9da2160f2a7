import { z } from "zod";

export const startPass = z.object({ volumeId: z.number().int() });
export const changePass = z.object({ wanted: z.enum(["run", "pause", "stop"]) });

export const pass = z.object({
  id: z.number(),
  sourceId: z.number(),
  sourceName: z.string(),
  volumeId: z.number(),
  volumeLabel: z.string(),
  place: z.string(),
  state: z.enum(["queued", "running", "paused", "stopped", "done", "failed"]),
  wanted: z.enum(["run", "pause", "stop"]),
  done: z.number(),
  total: z.number(),
  foundLive: z.number(),
  foundLost: z.number(),
  activeMs: z.number(),
  problem: z.string().nullable(),
  /** Stretches of the disk that could not be read so far. Bytes. */
  unreadable: z.array(z.object({ start: z.number(), end: z.number() })),
  createdAt: z.coerce.date(),
  finishedAt: z.coerce.date().nullable(),
});
export type Pass = z.infer<typeof pass>;
/** Lost items of each volume by kind. */
export const volumeKinds = z.array(z.object({ volumeId: z.number(), kind: z.string(), count: z.number() }));
export type VolumeKinds = z.infer<typeof volumeKinds>;

export const passList = z.array(pass);

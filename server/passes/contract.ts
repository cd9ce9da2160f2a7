import { z } from "zod";
import { PASS_PLACES, passKind, refusedOptions, STORE_FORMS } from "../../core/copies/pass-kinds";
import { PLACES } from "../../core/copies/vocabulary";
import { KINDS } from "../../core/formats/format";

export { findsAlone, formOf, PASS_PLACES, type PassPlace, passKind, passWords, refusedOptions } from "../../core/copies/pass-kinds";

/** What narrows a pass. */
export const passOptions = z
  .object({
    /** Only what lay below this folder; "/" first. */
    folder: z.string().regex(/^\//).max(4000).optional(),
    /** Only what begins in this part of the volume's length, in percent. */
    from: z.number().min(0).max(100).optional(),
    to: z.number().min(0).max(100).optional(),
    /** Only these kinds of file. */
    kinds: z.array(z.enum(KINDS)).max(KINDS.length).optional(),
    /** Of known places: only these. */
    places: z.array(z.enum(PLACES)).max(PLACES.length).optional(),
    /** Of earlier states: only those from this day on, and up to this one; days of UTC, both included. The newest state is read along. */
    statesFrom: z.iso.date().optional(),
    statesTo: z.iso.date().optional(),
    /** Of earlier states: the newest is read first. */
    newestFirst: z.boolean().optional(),
    /** Of raw content: only where the file system has nothing in use. */
    unused: z.boolean().optional(),
    /** Of raw content: files that begin anywhere, not only at sectors. */
    everyByte: z.boolean().optional(),
    /** Of raw content: pieces of a file are looked for farther away, and with more tries. */
    longer: z.boolean().optional(),
    /** Of raw content: also what was swept before. */
    again: z.boolean().optional(),
  })
  .refine(({ from = 0, to = 100 }) => from < to, { message: "The part must end after it begins." })
  .refine(({ statesFrom = "", statesTo }) => statesTo === undefined || statesFrom <= statesTo, {
    message: "The last day of the states must not come before the first.",
  });
export type PassOptions = z.infer<typeof passOptions>;

/** Whether a pass leaves something out; the order in which it reads leaves out nothing. */
export const isNarrowed = ({ newestFirst: _, ...narrowing }: PassOptions): boolean => Object.keys(narrowing).length > 0;

export const startPass = z
  .object({
    storeId: z.number().int(),
    place: z.enum(PASS_PLACES).default("file-record"),
    options: passOptions.default({}),
  })
  // A pass that only seemed to be narrowed would leave nothing out, or be taken for one that looked at all.
  .superRefine(({ place, options }, context) => {
    for (const option of refusedOptions(place, options))
      context.addIssue({ code: "custom", message: `A pass over ${passKind(place).words.noun} cannot be narrowed by “${option}”.` });
  });
export const changePass = z.object({ wanted: z.enum(["run", "pause", "stop"]) });

/** What a sweep has found and not given out yet, because what follows may still change it. Sizes in bytes, disk byte offsets. */
export const sighted = z.object({
  count: z.number(),
  newest: z.array(z.object({ name: z.string(), size: z.number(), at: z.number() })),
  /** Further pieces of files that break off are looked for: so many are done. */
  joining: z.object({ done: z.number(), all: z.number() }).optional(),
});
export type Sighted = z.infer<typeof sighted>;

/** Lost files by the kind of place they were found in and by kind. */
export const passKinds = z.array(z.object({ place: z.string(), kind: z.string(), count: z.number() }));
export type PassKinds = z.infer<typeof passKinds>;

export const pass = z.object({
  id: z.number(),
  sourceId: z.number(),
  sourceName: z.string(),
  storeId: z.number(),
  volumeLabel: z.string(),
  place: z.enum(PASS_PLACES),
  /** What its store is. */
  form: z.enum(STORE_FORMS),
  options: passOptions,
  state: z.enum(["queued", "running", "paused", "stopped", "done", "failed"]),
  wanted: z.enum(["run", "pause", "stop"]),
  done: z.number(),
  total: z.number(),
  foundLive: z.number(),
  foundLost: z.number(),
  /** What it found lost, the most first. */
  kinds: passKinds,
  activeMs: z.number(),
  problem: z.string().nullable(),
  /** Of a sweep: the stretches it looks through, small gaps closed. Disk byte offsets. */
  reach: z.array(z.object({ start: z.number(), end: z.number() })).nullable(),
  sighted: sighted.nullable(),
  createdAt: z.coerce.date(),
  finishedAt: z.coerce.date().nullable(),
});
export type Pass = z.infer<typeof pass>;
export const passList = z.array(pass);

import { z } from "zod";
import { CONDITIONS } from "../../core/copies/vocabulary";
import { KINDS } from "../../core/formats/format";
import { LAYOUTS, NamePattern, PatternError } from "../../core/restore/arrange";
import { CONFLICTS, RESTORE_FORMS, STREAM_WISHES } from "../../core/restore/wishes";

export { KINDS, type Kind } from "../../core/formats/format";
export { KIND_TITLES } from "../../core/formats/kind-titles";
export { LAYOUTS, NAME_TOKENS, type RestoreLayout } from "../../core/restore/arrange";

export { CONFLICTS, type Conflict, RESTORE_FORMS, type RestoreForm, STREAM_WISHES, type StreamWish } from "../../core/restore/wishes";

/** The smallest limit of a package: a CD's worth of files fits on nothing smaller. Bytes. */
const LEAST_BAG = 1_000_000;

const destination = z.string().trim().max(200);
/** One of the delivery folders of the settings, by its path; null: the usual one. */
const delivery = z.string().min(1).max(4096).nullable().default(null);

/** What is wrong with a pattern of names; null: nothing. */
export function wrongPattern(text: string): string | null {
  try {
    if (text !== "") new NamePattern(text);
    return null;
  } catch (error) {
    if (error instanceof PatternError) return error.message;
    throw error;
  }
}

export const plan = z.object({
  /** A folder name below the delivery folder, made when it is not there; none on a replacement. */
  destination,
  delivery,
  conflict: z.enum(CONFLICTS).default("keep-both"),
  /** How the files lie there: in their own folders, by kind, by the day of their last change, or all in one. */
  layout: z.enum(LAYOUTS).default("tree"),
  /** A pattern of names, as `{date} {name}`; empty: they keep their own. */
  names: z
    .string()
    .trim()
    .max(200)
    .default("")
    .superRefine((text, context) => {
      const wrong = wrongPattern(text);
      if (wrong) context.addIssue({ code: "custom", message: wrong });
    }),
  /** What becomes of the named streams of files, resource forks and extended attributes among them. */
  streams: z.enum(STREAM_WISHES).default("leave"),
  /** Whether bytes that belong to other files now are written as they stand; otherwise they are zeros. */
  asFound: z.boolean().default(false),
  /** Whether files that do not open are written repaired as well, beside them, where that can be done. */
  repaired: z.boolean().default(false),
  /** Plain files, or a package for the archive, in several where there is a limit. */
  form: z.enum(RESTORE_FORMS).default("files"),
  /** Bytes of files one package holds at most; null: there is one package. */
  bagLimit: z.number().int().min(LEAST_BAG, "A package takes at least 1 MB.").max(Number.MAX_SAFE_INTEGER).nullable().default(null),
  /** For files of a kind something else than `conflict`. */
  kinds: z.partialRecord(z.enum(KINDS), z.enum(CONFLICTS)).default({}),
  /** For single copies something else than those, by copy id. */
  choices: z.record(z.string().regex(/^\d+$/), z.enum(CONFLICTS)).default({}),
});
export type RestorePlan = z.infer<typeof plan>;

/** A plan that is to be carried out; `asked` is the same for every press of one button, so that two presses start one restore. */
export const startRestore = plan.extend({ asked: z.uuid().optional() });

/** What stands at the destination already. */
const present = z.object({
  size: z.number(),
  modified: z.coerce.date(),
  /** Whether it holds the same bytes; null: it was not compared. */
  same: z.boolean().nullable(),
});

export const rehearsedFile = z.object({
  itemId: z.number(),
  copyId: z.number(),
  kind: z.enum(KINDS),
  /** Which named stream of the item it is, -1: all of them in the second file of the two-file form, -2: its repaired form; null: its content. */
  stream: z.number().nullable(),
  path: z.string(),
  target: z.string(),
  size: z.number(),
  condition: z.enum(CONDITIONS),
  modified: z.coerce.date().nullable(),
  /** The item's best copy is meant, whichever that is when the restore begins; false: this one was chosen. */
  best: z.boolean(),
  /** It goes where an application expects it, not where it stood. */
  placed: z.boolean(),
  /** Why it will not be written; null when it will. */
  problem: z.string().nullable(),
  /** How much of it is left (0 … 1), whether it is a live file, and whether its content opens; null: nobody has looked. */
  survival: z.number(),
  live: z.boolean(),
  opens: z.enum(["yes", "no", "unknown"]).nullable(),
  /** The condition of the item's best copy, where that is another one and better; null: there is none. */
  better: z.enum(CONDITIONS).nullable(),
  /** Bytes that will be missing in it, as far as is known now. */
  missing: z.number(),
  exists: present.nullable(),
});
export type RehearsedFile = z.infer<typeof rehearsedFile>;

/** How many entries of the tray one page of the rehearsal has. */
export const REHEARSAL_PAGE = 200;

/** The file system of a destination, as far as the system names it. */
const device = z.object({
  title: z.string(),
  writable: z.boolean(),
  /** Bytes; null: no limit that matters, or none that is known. */
  largestFile: z.number().nullable(),
  /** Milliseconds to which it rounds times of change; null: not known. */
  timeGrain: z.number().nullable(),
});
export type Device = z.infer<typeof device>;

/** A folder of the settings below which restores may be written. */
export const deliveryEntry = z.object({
  path: z.string(),
  /** It takes the place of a lost drive: files go back to where they stood. */
  replaces: z.boolean(),
  usual: z.boolean(),
  freeBytes: z.number().nullable(),
  device: device.nullable(),
  /** Why nothing of this job may be written there; null: it may. */
  refused: z.string().nullable(),
});
export type DeliveryEntry = z.infer<typeof deliveryEntry>;
export const deliveryList = z.array(deliveryEntry);

export const rehearsalPage = z.object({
  root: z.string(),
  page: z.number(),
  pages: z.number(),
  files: z.array(rehearsedFile),
  freeBytes: z.number().nullable(),
  device: device.nullable(),
  /** Why nothing can be written there at all. */
  refused: z.string().nullable(),
});
export type RehearsalPage = z.infer<typeof rehearsalPage>;

/** Sums over all of the tray. */
export const rehearsalSums = z.object({
  /** What will be written, and what will not, in files. */
  writable: z.number(),
  unwritable: z.number(),
  /** Files of which bytes will be missing. */
  withGaps: z.number(),
  /** Files that do not open, and those of which a better copy is known than the one chosen. */
  unopened: z.number(),
  better: z.number(),
  /** Named streams the chosen items have, whether they are written or not, and the items that have some. */
  streams: z.number(),
  withStreams: z.number(),
  /** Files whose name or place goes by what they say of themselves, which was not read (yet). */
  unread: z.number(),
  /** Files that go where an application expects them, not where they stood. */
  placed: z.number(),
  /** Files with the mark “read only”, and with the mark “hidden”. */
  readOnly: z.number(),
  hidden: z.number(),
  bytes: z.number(),
  /** Bytes of the blocks they fill there. */
  needed: z.number(),
  /** Why it does not fit; null: it does. */
  tooLarge: z.string().nullable(),
});
export type RehearsalSums = z.infer<typeof rehearsalSums>;

/** What can be asked of a restore that has not ended; "elsewhere" writes what is left to another folder. */
export const restoreChange = z.discriminatedUnion("what", [
  z.object({ what: z.enum(["pause", "resume", "stop"]) }),
  z.object({ what: z.literal("elsewhere"), destination, delivery }),
]);
export type RestoreChange = z.infer<typeof restoreChange>;

/** What a rehearsal finds when it looks at every target; it takes longer than a page of it. */
export const survey = z.object({
  /** Files of which one of that name is there already; the first of them follow. */
  existing: z.number(),
  conflicts: z.array(rehearsedFile),
  /** How many of them there are of each kind. */
  kinds: z.partialRecord(z.enum(KINDS), z.number()),
  /** Files whose names meet within this restore: they are numbered. */
  meeting: z.number(),
  /** Files in folders that have the name of a file of this restore: these folders are numbered. */
  below: z.number(),
});
export type Survey = z.infer<typeof survey>;

const range = z.object({ start: z.number(), end: z.number() });
export const gaps = z.object({ unreadable: z.array(range), foreign: z.array(range) });

export const RESULT_STATES = ["waiting", "writing", "verified", "gaps", "same", "skipped", "failed"] as const;
export const result = z.object({
  id: z.number(),
  itemId: z.number(),
  copyId: z.number(),
  path: z.string(),
  condition: z.string(),
  size: z.number(),
  state: z.enum(RESULT_STATES),
  /** What became of the file since it was written; null: nothing, as far as was looked. */
  since: z.enum(["replaced", "changed", "gone"]).nullable(),
  gaps: gaps.nullable(),
  /** Whether it was read again from the device itself; false: from the system's memory; null: not written, or not known. */
  fromDevice: z.boolean().nullable(),
  output: z.string().nullable(),
  /** Where the file that was there before is kept. */
  aside: z.string().nullable(),
  /** What of the file could not go along, in words; null: nothing, or it was not written. */
  leftBehind: z.array(z.string()).nullable(),
  sha256: z.string().nullable(),
  problem: z.string().nullable(),
});
export type Result = z.infer<typeof result>;

export const counts = z.object({
  files: z.number(),
  settled: z.number(),
  verified: z.number(),
  gaps: z.number(),
  /** Not written, because the same bytes were there already; and how many of these have gaps. */
  same: z.number(),
  sameGaps: z.number(),
  skipped: z.number(),
  failed: z.number(),
  /** Of those written: replaced, changed or gone since. */
  since: z.number(),
  /** Of those written: something of the file could not go along. */
  leftBehind: z.number(),
  /** Written where an application expects them, not where they stood. */
  placed: z.number(),
  /** Of those written: read again from the system's memory, because there was no way past it. */
  fromMemory: z.number(),
  bytes: z.number(),
  settledBytes: z.number(),
  /** Bytes that are missing in the files with gaps. */
  missing: z.number(),
});
export type Counts = z.infer<typeof counts>;
export const restore = z.object({
  id: z.number(),
  destination: z.string(),
  root: z.string(),
  asFound: z.boolean(),
  form: z.enum(RESTORE_FORMS),
  state: z.enum(["queued", "running", "paused", "done", "failed"]),
  wanted: z.enum(["run", "pause", "stop"]),
  /** It goes on by itself when its destination is back. */
  waits: z.boolean(),
  problem: z.string().nullable(),
  createdAt: z.coerce.date(),
  finishedAt: z.coerce.date().nullable(),
  /** When all its files were last read again and compared; null: not since they were written. */
  provenAt: z.coerce.date().nullable(),
  counts,
});
export type Restore = z.infer<typeof restore>;
export const restoreList = z.array(restore);

/** Results of a restore in one page. */
export const RESULT_PAGE = 200;
export const resultPage = z.object({ results: z.array(result), next: z.number().nullable() });
export type ResultPage = z.infer<typeof resultPage>;
export const resultQuery = z.object({
  after: z.coerce.number().int().min(0).default(0),
  /** "open": what was not written; "changed": what is not any more as it was left; "left": of which something could not go along. */
  only: z.enum(["all", "gaps", "open", "changed", "left"]).default("all"),
});

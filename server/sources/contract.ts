import { z } from "zod";
import { SET_KINDS } from "../../core/sets/backup-set";

/** A file or folder in the source folders, as the browser of images shows it. */
export const sourceEntry = z.object({
  path: z.string(),
  name: z.string(),
  folder: z.boolean(),
  size: z.number(),
  modified: z.coerce.date().nullable(),
  /** It is a further part of the image of this name; null: it is none. */
  part: z.string().nullable(),
});
/** A connected drive as a source. */
export const driveEntry = z.object({
  path: z.string(),
  title: z.string(),
  /** Bytes. */
  size: z.number(),
  /** What should be known before it is read; null: nothing. */
  warning: z.string().nullable(),
  /** Why it cannot be taken; null: it can. */
  problem: z.string().nullable(),
});
export type DriveEntry = z.infer<typeof driveEntry>;
export const sourceListing = z.object({
  path: z.string().nullable(),
  parent: z.string().nullable(),
  entries: z.array(sourceEntry),
  /** What lies there and is not shown. */
  notes: z.array(z.string()),
  /** Whether this folder is on the list of source folders: named by the settings, put there by hand, or neither. */
  listed: z.enum(["by settings", "by hand"]).nullable(),
  /** Connected drives; beside the source folders alone. */
  drives: z.array(driveEntry),
  /** The settings keep drives out of sight. */
  drivesHidden: z.boolean(),
  problem: z.string().nullable(),
});
export type SourceListing = z.infer<typeof sourceListing>;

export const addSource = z.union([
  z.object({
    path: z.string().min(1),
    /** Further files that hold parts or parents of it, chosen by hand. */
    beside: z.array(z.string().min(1)).max(64).default([]),
  }),
  /** The disk in the content of a copy. */
  z.object({ copyId: z.number().int().positive() }),
]);

/** Puts a folder on the list of source folders, or takes it off. */
export const listFolder = z.object({ path: z.string().min(1), listed: z.boolean() });

export const changeSource = z.union([
  z.object({ name: z.string().trim().min(1, "Give the source a name.").max(200) }),
  /** It is at another path now. */
  z.object({ path: z.string().min(1) }),
  z.object({ again: z.literal(true) }),
]);

const finding = z.object({ what: z.string(), count: z.number(), examples: z.array(z.string()) });
const profile = z.object({
  path: z.string(),
  user: z.string(),
  earlier: z.boolean(),
  files: z.number(),
  bytes: z.number(),
  kinds: z.record(z.string(), z.number()),
  /** UTC milliseconds. */
  lastUsed: z.number().nullable(),
  account: z.enum(["enabled", "disabled", "not known"]),
});
export type Profile = z.infer<typeof profile>;

/** A backup set on a volume, or the volume's snapshots; times are UTC milliseconds. */
const setFacts = z.object({
  /** By which the list is narrowed to it; null: a pass read it that noted of no copy which set it is of. */
  key: z.string().nullable(),
  kind: z.enum([...SET_KINDS, "snapshots"]),
  root: z.string(),
  machine: z.string().nullable(),
  user: z.string().nullable(),
  covers: z.string().nullable(),
  states: z.number(),
  unfinished: z.number(),
  first: z.number().nullable(),
  last: z.number().nullable(),
  read: z.number(),
  versions: z.number(),
  bytes: z.number(),
  encrypted: z.number(),
  notes: z.array(z.object({ what: z.string(), states: z.number() })),
});
export type SetFacts = z.infer<typeof setFacts>;

export const volume = z.object({
  id: z.number(),
  number: z.number(),
  offset: z.number(),
  length: z.number(),
  filesystem: z.string(),
  label: z.string().nullable(),
  clusterSize: z.number().nullable(),
  readable: z.boolean(),
  usedBytes: z.number().nullable(),
  /** Share in use of equal stretches along the volume, 0 … 255. */
  usage: z.array(z.number()),
  /** Named by the partition table; found where no table names it; of an earlier division of the disk. */
  standing: z.enum(["present", "lost", "earlier"]),
  /** Earlier states of it that can still be opened. */
  states: z.array(
    z.object({ view: z.string(), kind: z.enum(["snapshot", "checkpoint", "set"]), label: z.string(), asOf: z.number().nullable() }),
  ),
  /** Why its content stays closed; null: it does not. */
  closed: z.string().nullable(),
  /** What it holds of a drive that several volumes make up; null: it stands alone. */
  part: z.enum(["system", "data"]).nullable(),
  /** What does not add up in it and the profiles on it; both empty until it was read. */
  readingAt: z.coerce.date().nullable(),
  findings: z.array(finding),
  profiles: z.array(profile),
  /** Sets found by the pass over earlier states; empty until it ran. */
  sets: z.array(setFacts),
  notes: z.array(z.string()),
});

export const source = z.object({
  id: z.number(),
  path: z.string(),
  /** Of a disk inside another: the paths of the files that lead to it, from the outermost on. */
  within: z.array(z.string()),
  /** The store it lies in; null: in none. */
  parentStoreId: z.number().nullable(),
  name: z.string(),
  size: z.number(),
  container: z.string(),
  tableKind: z.string(),
  connected: z.boolean(),
  /** Stretches that could not be read. Disk byte offsets. */
  unreadable: z.array(z.object({ start: z.number(), end: z.number() })),
  notes: z.array(z.string()),
  volumes: z.array(volume),
});
export type Source = z.infer<typeof source>;
export const sourceList = z.array(source);

/** The file whose content holds a byte of the disk; null: none that was found. */
export const owner = z
  .object({ itemId: z.number(), copyId: z.number(), name: z.string(), folder: z.string(), live: z.boolean() })
  .nullable();
export type Owner = z.infer<typeof owner>;

/** The stretches in use inside a part of the disk, one after the other: start, length, start, length … in bytes; null: too many. */
export const usedRuns = z.object({ runs: z.array(z.number()).nullable() });

/** Where the finds of the passes begin on each source, for the chart: disk byte offsets of lost copies, thinned out where there are very many. */
export const finds = z.array(z.object({ sourceId: z.number(), count: z.number(), at: z.array(z.number()) }));
export type Finds = z.infer<typeof finds>;

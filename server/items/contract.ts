import { z } from "zod";
import { CONDITIONS, LAID, PLACES } from "../../core/copies/vocabulary";
import { ABSENCES } from "../../core/filesystems/file-record";
import { KINDS } from "../../core/formats/format";

export const SORTS = ["name", "changed", "size", "condition"] as const;
export type Sort = (typeof SORTS)[number];
/** Classes of size a person thinks in; upper bounds in bytes. */
export const SIZES = {
  empty: 0,
  "to 10 KiB": 10_240,
  "to 1 MiB": 1 << 20,
  "to 100 MiB": 100 << 20,
  larger: Number.MAX_SAFE_INTEGER,
} as const;
export type SizeClass = keyof typeof SIZES;
/** Items in one page of the list. */
export const PAGE = 200;

const words = Object.keys(SIZES) as [SizeClass, ...SizeClass[]];

/**
 * What became of a file since a moment: it is there no more, was moved or renamed, has other content, or is what it was (by size and date); of a file
 * of which only earlier states are known ("kept"): the last of them has it too.
 */
export const SINCE = ["gone", "moved", "changed", "same", "kept"] as const;
export type Since = (typeof SINCE)[number];

const year = z
  .string()
  .regex(/^(\d{4}|none)$/)
  .optional();

/** What a list has a row for, where that is not each item with its best copy: the newest version of each, or each version. */
export const ROWS = ["newest", "each"] as const;
export type Rows = (typeof ROWS)[number];

/** What narrows the list. */
export const itemFilter = z.object({
  q: z.string().max(300).default(""),
  show: z.enum(["lost", "all"]).default("lost"),
  kind: z.enum(KINDS).optional(),
  place: z.enum(PLACES).optional(),
  /** "whole": judged to be; "in-place": a live file nobody has looked into yet. */
  condition: z.enum([...CONDITIONS, "in-place"]).optional(),
  /** Everything below this folder; "/" first. */
  folder: z.string().max(4000).optional(),
  /** The year of the last change in the job's time zone; "none": no date. */
  year,
  size: z.enum(words).optional(),
  source: z.coerce.number().int().positive().optional(),
  volume: z.coerce.number().int().positive().optional(),
  /** A drive of the client's. */
  home: z.coerce.number().int().positive().optional(),
  /** Whose profile folder it stood in. */
  user: z.string().max(200).optional(),
  /** Whether the best copy is a live file. */
  standing: z.enum(["live", "deleted"]).optional(),
  /** The year of deletion, and that of creation. */
  deleted: year,
  created: year,
  /** The extension of its name, without the dot; "none": it has none. */
  type: z.string().max(20).optional(),
  rows: z.enum(ROWS).optional(),
  /** What was there at this moment, as far as states, dates and deletions show; not for rows of versions, which are of all moments. */
  asOf: z.iso.datetime().optional(),
  /** What became of it since that moment; without one it narrows nothing. */
  since: z.enum(SINCE).optional(),
  /** Backup sets, or the snapshots of volumes, separated by commas: of each its store's id, and its key. */
  set: z
    .string()
    .regex(/^\d{1,9}-[0-9a-f]{12}(,\d{1,9}-[0-9a-f]{12}){0,99}$/)
    .optional(),
  /** What a client chose by this shared link. */
  link: z.coerce.number().int().positive().optional(),
  /** Leaves out what stands inside another file: small pictures in pictures, pictures in documents. */
  originals: z.enum(["yes"]).optional(),
});
export type ItemFilter = z.infer<typeof itemFilter>;

/** The sets of a filter, each by its own. */
export const setsOf = (set: string | undefined): string[] => (set ? set.split(",") : []);

/** What the copies are of that a list as of a moment, and the moments themselves, go by; nothing given: of anything in the job. */
export const scope = itemFilter.pick({ source: true, volume: true, set: true });
export type Scope = z.infer<typeof scope>;

export const itemQuery = itemFilter.extend({
  sort: z.enum(SORTS).default("name"),
  order: z.enum(["up", "down"]).default("up"),
  after: z.string().max(2000).optional(),
  limit: z.coerce.number().int().min(1).max(1000).default(PAGE),
});
export type ItemQuery = z.infer<typeof itemQuery>;

/** Which copy of an item is to be taken; null: the one the bench thinks best. */
export const chooseCopy = z.object({ copyId: z.number().int().nullable() });

/** One copy on an item's ribbon. */
export const mark = z.object({
  /** UTC milliseconds of its last change; null when not known. */
  at: z.number().nullable(),
  place: z.enum(PLACES),
  condition: z.enum(CONDITIONS),
  survival: z.number(),
  live: z.boolean(),
});
export type Mark = z.infer<typeof mark>;

/** What a content says of itself. */
export const contentFacts = z.object({
  title: z.string().optional(),
  author: z.string().optional(),
  dated: z.number().optional(),
  taken: z.number().optional(),
  camera: z.string().optional(),
  width: z.number().optional(),
  height: z.number().optional(),
  duration: z.number().optional(),
  pages: z.number().optional(),
  text: z.string().optional(),
  inside: z.string().optional(),
});
export type ContentFacts = z.infer<typeof contentFacts>;

/** Moments at which something changed in snapshots and backup sets: UTC milliseconds, and how many files did. */
export const moments = z.object({ moments: z.array(z.object({ at: z.number(), count: z.number() })) });
export type Moments = z.infer<typeof moments>;

export const item = z.object({
  id: z.number(),
  name: z.string(),
  folder: z.string(),
  kind: z.string(),
  lost: z.boolean(),
  copies: z.number(),
  bestCopyId: z.number(),
  size: z.number(),
  modified: z.coerce.date().nullable(),
  condition: z.enum(CONDITIONS),
  survival: z.number(),
  /** Whether its best copy is in the tray, and how many others of its copies are. */
  inTray: z.boolean(),
  alsoInTray: z.number(),
  /** Whether its best copy opens; null: nobody has looked. */
  opens: z.enum(["yes", "no", "unknown"]).nullable(),
  /** Whether its best copy is a live file. */
  live: z.boolean(),
  created: z.coerce.date().nullable(),
  deletedAt: z.coerce.date().nullable(),
  /** The drive of the client's it stood on. */
  volume: z.string(),
  /** What its content says of itself; null: it was not looked into. */
  facts: contentFacts.nullable(),
  marks: z.array(mark),
  /** In a list as of a moment: what became of it since. */
  since: z.enum(SINCE).optional(),
  /** The copy that stood then, where it is known by itself. */
  copyThen: z.number().optional(),
  /** In a list of versions: which one the row is. What the row says is of this copy alone. */
  version: z
    .object({
      copyId: z.number(),
      place: z.enum(PLACES),
      /** The states it stood in; null: it is of none, or of its store's alone. `until` null: to the last. */
      stood: z.object({ from: z.coerce.date(), until: z.coerce.date().nullable() }).nullable(),
      /** The set it was kept in, as the sets of the facets are called; null: in none. */
      set: z.string().nullable(),
    })
    .optional(),
});
export type Item = z.infer<typeof item>;
export const itemPage = z.object({ items: z.array(item), next: z.string().nullable() });
export type ItemPage = z.infer<typeof itemPage>;

/** How many items match, and where each page but the first begins: with it any page can be fetched directly. */
export const spine = z.object({ count: z.number(), starts: z.array(z.string()) });
export type Spine = z.infer<typeof spine>;

const counted = z.array(z.object({ value: z.string(), count: z.number() }));
const named = z.array(z.object({ value: z.string(), count: z.number(), words: z.string() }));
/** Counts by each way of narrowing; each leaves its own choice out of account, so that others can be chosen instead. */
export const facets = z.object({
  /** Items of the job, or versions where the list has a row for each, however it is narrowed. */
  total: z.number(),
  kind: counted,
  place: counted,
  condition: counted,
  year: counted,
  size: counted,
  standing: counted,
  deleted: counted,
  created: counted,
  type: counted,
  user: counted,
  /** By id, with what they are called. */
  volume: named,
  home: named,
  source: named,
  set: named,
  /** The folders right below the chosen one (or below the root). */
  folder: counted,
});
export type Facets = z.infer<typeof facets>;

/** Counts by what became of items since the moment of the list: they come by themselves, because they take longer than all others. */
export const sinceFacet = z.object({ since: counted });
export type SinceFacet = z.infer<typeof sinceFacet>;

const finding = z.looseObject({ finding: z.string() });

/** Where a row stands in the list as it is narrowed and ordered, counted from 0; null: it is not in it. */
export const position = z.object({ index: z.number().nullable() });

/** A stretch of a disk that holds bytes of a content, and which byte of it is the first; null: they are coded, or where the disk has them is not known. */
export const placedRun = z.object({ at: z.number(), length: z.number(), start: z.number().nullable() });
export type PlacedRun = z.infer<typeof placedRun>;

export const copy = z.object({
  id: z.number(),
  place: z.enum(PLACES),
  state: z.enum(["live", "deleted"]),
  reference: z.string(),
  size: z.number(),
  created: z.coerce.date().nullable(),
  modified: z.coerce.date().nullable(),
  changed: z.coerce.date().nullable(),
  condition: z.enum(CONDITIONS),
  survival: z.number(),
  evidence: z.object({
    usedByOthers: z.number(),
    takenLater: z.number(),
    lost: z.number(),
    unreadable: z.number(),
    /** May be of another time than the copy's own. */
    inDoubt: z.number().optional(),
    content: finding.nullable(),
    /** Its pieces were laid by hand, or found by a longer look. */
    laid: z.enum(LAID).optional(),
  }),
  runs: z.array(placedRun),
  deletedAt: z.coerce.date().nullable(),
  /** Of a state's copy: from when, and until when, nothing says otherwise; `until` null: nothing says of an end. */
  present: z.object({ from: z.coerce.date(), until: z.coerce.date().nullable() }).nullable(),
  /** The backup set it was kept in, as the sets of the facets are called; null: in none. */
  set: z.string().nullable(),
  /** Named streams of the file. Bytes. */
  streams: z.array(z.object({ name: z.string(), size: z.number() })),
  /** Names the file has on its volume. */
  links: z.number(),
  /** Why its content cannot be read here; null: it can, or there is none. */
  absent: z.enum(ABSENCES).nullable(),
  notes: z.array(z.string()),
  facts: contentFacts.nullable(),
  /** Live files that stand where bytes of it were. */
  takenBy: z.array(z.string()),
  /** In a folder of this computer: the file below it. */
  file: z.string().nullable(),
  /** That file is an archive which holds it among others. */
  inArchive: z.boolean(),
  /** In a known place: by which rule, and under which path it was really found. */
  found: z.object({ rule: z.string(), path: z.string() }).nullable(),
  best: z.boolean(),
  /** This very copy is in the tray. */
  inTray: z.boolean(),
  /** Why it was taken, or what speaks for another. */
  reason: z.string(),
  /** Other copies of the item hold the same bytes; null: not compared. */
  identical: z.array(z.number()),
  sourceId: z.number(),
});
export type Copy = z.infer<typeof copy>;
export const itemDetail = item.omit({ marks: true }).extend({
  overruled: z.boolean(),
  sought: z.boolean(),
  volumeLabel: z.string(),
  /** The drive of the client's it stood on. */
  homeId: z.number(),
  sourceName: z.string(),
  list: z.array(copy),
});
export type ItemDetail = z.infer<typeof itemDetail>;

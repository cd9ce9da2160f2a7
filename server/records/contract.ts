import { z } from "zod";
import { ENTRY_KINDS } from "../../core/records/entries/kinds";
import { placedRun } from "../items/contract";

/** Rows of one answer. */
export const ROWS_AT_ONCE = 200;
/** Milliseconds for which a request reads on in a database that is not read to its end: then it answers with what there is. */
export const SLICE_MS = 300;

export const recordsQuery = z.object({
  /** The table by its name; empty: the largest. */
  table: z.string().max(10_000).default(""),
  find: z.string().max(200).default(""),
  only: z.enum(["all", "live", "deleted"]).default("all"),
  from: z.coerce.number().int().min(0).max(10_000_000).default(0),
});
export type RecordsQuery = z.infer<typeof recordsQuery>;

const column = z.object({
  name: z.string(),
  /** How its numbers count time, in words; null: they do not. */
  time: z.string().nullable(),
});

/** One of the files a database was read from, as its bytes are shown. */
const recordFile = z.object({
  from: z.enum(["main", "log", "journal"]),
  copyId: z.number(),
  name: z.string(),
  size: z.number(),
  /** Where its bytes stand on the disk. */
  runs: z.array(placedRun),
});
export type RecordFile = z.infer<typeof recordFile>;

export const recordsPage = z.object({
  tables: z.array(z.object({ name: z.string(), live: z.number(), deleted: z.number() })),
  columns: z.array(column),
  rows: z.array(
    z.object({
      /** null: a value that is not known; it does not stand any more. */
      cells: z.array(z.string().nullable()),
      state: z.enum(["live", "deleted"]),
      confidence: z.enum(["whole", "part", "guess"]),
      /** It was written in a transaction that never came to an end. */
      uncommitted: z.boolean(),
      /** It is of a table that was dropped or changed since: what it says may count in another form. */
      former: z.boolean(),
      /** Where it stands, and in which of the database's files. */
      at: z.number().nullable(),
      from: z.enum(["main", "log", "journal"]).nullable(),
    }),
  ),
  /** The table the rows are of; null: there is none. */
  table: z.string().nullable(),
  /** Rows that fit what is looked for. */
  matched: z.number(),
  next: z.number().nullable(),
  /** How many rows of the database were read so far; null: all are, and they stand in their order. */
  reading: z.number().nullable(),
  /** The database, and which files beside it were taken into account; none: several are read as one. */
  files: z.array(recordFile),
  notes: z.array(z.string()),
});
export type RecordsPage = z.infer<typeof recordsPage>;

/** Other databases of the same kind that are read as one with this one. */
const together = z
  .string()
  .regex(/^(\d{1,15}(,\d{1,15}){0,10})?$/, "These are no databases.")
  .default("")
  .transform((text) => (text === "" ? [] : text.split(",").map(Number)));
export type Together = readonly number[];

const day = z
  .string()
  .regex(/^(\d{4}(-(0[1-9]|1[0-2])(-(0[1-9]|[12]\d|3[01]))?)?)?$/, "Write a day as 2026-03-01, a month as 2026-03, a year as 2026.");

export const entriesQuery = z.object({
  with: together,
  kind: z.enum(ENTRY_KINDS).nullable().default(null),
  talk: z.string().max(40).default(""),
  who: z.string().max(300).default(""),
  find: z.string().max(200).default(""),
  only: z.enum(["all", "live", "deleted"]).default("all"),
  /** Days, months or years in UTC; both count. */
  since: day.default(""),
  until: day.default(""),
  from: z.coerce.number().int().min(0).max(10_000_000).default(0),
});
export type EntriesQuery = z.infer<typeof entriesQuery>;
export const togetherQuery = z.object({ with: together });

/** A part of what is written, and from where on the next one is asked for. */
export interface ExportPart {
  readonly name: string;
  readonly text: string;
  readonly next: number | null;
}

/** Entries that are written as a page at most: a browser would not show more. */
export const MOST_ON_A_PAGE = 100_000;

export const entryExport = z.enum(["html", "json"]);
export type EntryExport = z.infer<typeof entryExport>;

const sentFile = z.object({
  name: z.string(),
  path: z.string().nullable(),
  size: z.number().nullable(),
  type: z.string().nullable(),
  deleted: z.boolean(),
});

const entry = z.object({
  /** UTC milliseconds; null: not known. */
  at: z.number().nullable(),
  who: z.string().nullable(),
  /** The label of its conversation; null: in none, or not known in which. */
  talk: z.string().nullable(),
  title: z.string().nullable(),
  text: z.string().nullable(),
  address: z.string().nullable(),
  files: z.array(sentFile),
  details: z.array(z.tuple([z.string(), z.string()])),
  lastVisit: z.boolean(),
  table: z.string(),
  state: z.enum(["live", "deleted"]),
  confidence: z.enum(["whole", "part", "guess"]),
  uncommitted: z.boolean(),
  former: z.boolean(),
  offset: z.number().nullable(),
  from: z.enum(["main", "log", "journal"]).nullable(),
  /** Which of the databases that are read as one have it, by their place; null: there is one. */
  in: z.array(z.number()).nullable(),
});
export type RecordEntry = z.infer<typeof entry>;

/** What is still done before there are entries, and how many rows it has come to. */
const working = z.object({ what: z.enum(["rows", "entries", "files"]), done: z.number() });
export type Working = z.infer<typeof working>;

export const entriesPage = z.object({
  /** null: all is read. Until then there are no entries. */
  working: working.nullable(),
  /** What the database holds, as what it is; none: its tables are all there is to see. */
  kinds: z.array(z.object({ kind: z.enum(ENTRY_KINDS), entries: z.number(), deleted: z.number() })),
  kind: z.enum(ENTRY_KINDS).nullable(),
  talks: z.array(
    z.object({
      key: z.string(),
      label: z.string(),
      entries: z.number(),
      deleted: z.number(),
      first: z.number().nullable(),
      last: z.number().nullable(),
    }),
  ),
  /** Conversations that are not in the list. */
  moreTalks: z.number(),
  /** Who wrote, or which sites were visited: those with the most entries. */
  persons: z.array(z.object({ name: z.string(), entries: z.number() })),
  entries: z.array(entry),
  matched: z.number(),
  next: z.number().nullable(),
  together: z.array(z.object({ copyId: z.number(), name: z.string(), where: z.string() })),
  /** Why tables were taken for what they are. */
  why: z.array(z.object({ table: z.string(), kind: z.enum(ENTRY_KINDS), why: z.array(z.string()) })),
  files: z.array(recordFile),
  notes: z.array(z.string()),
});
export type EntriesPage = z.infer<typeof entriesPage>;

/** How a file of the job is like one that is spoken of, the likest first. Only names, sizes and types are compared: what it holds nobody wrote down. */
export const LIKENESS = ["name-size", "size-type", "name", "part", "name-only"] as const;

export const mentionedFiles = z.object({
  /** null: all is read. Until then there are no files. */
  working: working.nullable(),
  files: z.array(
    z.object({
      name: z.string(),
      size: z.number().nullable(),
      type: z.string().nullable(),
      /** Where the application kept it, as its row says. */
      path: z.string().nullable(),
      /** The same on the drive of the database; null: the row's path leads to none of its folders. */
      expected: z.string().nullable(),
      /** UTC milliseconds of when it was sent or spoken of. */
      at: z.number().nullable(),
      /** Its name stands in a text; nothing says that it was sent. */
      inText: z.boolean(),
      found: z.array(
        z.object({
          itemId: z.number(),
          copyId: z.number(),
          name: z.string(),
          folder: z.string(),
          place: z.string(),
          condition: z.string(),
          size: z.number(),
          like: z.enum(LIKENESS),
          chosen: z.boolean(),
        }),
      ),
    }),
  ),
  notes: z.array(z.string()),
});
export type MentionedFiles = z.infer<typeof mentionedFiles>;

export const recordCandidates = z.object({
  /** By which table and column the coverage is counted; null: there is none with times. */
  by: z.object({ table: z.string(), column: z.string() }).nullable(),
  candidates: z.array(
    z.object({
      copyId: z.number(),
      itemId: z.number().nullable(),
      name: z.string(),
      folder: z.string(),
      place: z.string(),
      state: z.string(),
      /** UTC milliseconds of its first and last row; null: none has a time. */
      first: z.number().nullable(),
      last: z.number().nullable(),
      live: z.number(),
      deleted: z.number(),
      /** Rows no other candidate has; null: they were not held against one another. */
      only: z.number().nullable(),
      /** Rows by month: months since the year 0, rows that count, and deleted ones. */
      months: z.array(z.tuple([z.number(), z.number(), z.number()])),
    }),
  ),
  /** All of them joined, over all tables: rows, and those of them put together from what is left; null: they are too many to be joined here. */
  joined: z.object({ rows: z.number(), deleted: z.number() }).nullable(),
  notes: z.array(z.string()),
});
export type RecordCandidates = z.infer<typeof recordCandidates>;

export const MOST_CANDIDATES = 12;
export const joinQuery = z.object({
  copies: z
    .string()
    .regex(/^\d{1,15}(,\d{1,15}){1,11}$/, "Choose two databases or more.")
    .transform((text) => text.split(",").map(Number)),
});

import { z } from "zod";

/** Rows of one answer. */
export const ROWS_AT_ONCE = 200;

export const recordsQuery = z.object({
  /** The table by its place in the list. */
  table: z.coerce.number().int().min(0).max(10_000).default(0),
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
      /** Where it stands, and in which of the database's files. */
      at: z.number(),
      from: z.enum(["main", "log", "journal"]),
    }),
  ),
  /** Rows that fit what is looked for. */
  matched: z.number(),
  next: z.number().nullable(),
  /** Which files beside the database were taken into account. */
  beside: z.array(z.string()),
  notes: z.array(z.string()),
});
export type RecordsPage = z.infer<typeof recordsPage>;

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
      /** Rows no other candidate has. */
      only: z.number(),
      /** Rows by month: months since the year 0, rows that count, and deleted ones. */
      months: z.array(z.tuple([z.number(), z.number(), z.number()])),
    }),
  ),
  /** All of them joined, over all tables: rows, and those of them put together from what is left. */
  joined: z.object({ rows: z.number(), deleted: z.number() }),
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

/** Passes over stores, and the workers that carry them out. */

import { bigserial, index, integer, jsonb, pgTable, serial, text } from "drizzle-orm/pg-core";
import type { PassKinds, PassOptions, Sighted } from "../../passes/contract";
import { bytea, bytes, time } from "./columns";
import { jobs } from "./jobs";
import { sources, stores } from "./stores";

/** One reading of a volume for one kind of place. */
export const passes = pgTable(
  "passes",
  {
    id: serial("id").primaryKey(),
    jobId: integer("job_id")
      .notNull()
      .references(() => jobs.id, { onDelete: "cascade" }),
    sourceId: integer("source_id")
      .notNull()
      .references(() => sources.id, { onDelete: "cascade" }),
    storeId: integer("store_id")
      .notNull()
      .references(() => stores.id, { onDelete: "cascade" }),
    place: text("place").notNull(),
    /** What narrows it: a folder, a part of the volume in percent, kinds of file. */
    options: jsonb("options").$type<PassOptions>().notNull().default({}),
    state: text("state").$type<PassState>().notNull().default("queued"),
    /** What the technician wants of it; the worker follows at its next batch. */
    wanted: text("wanted").$type<"run" | "pause" | "stop">().notNull().default("run"),
    /** Where its reader goes on: bytes of the reader's own (`core/bytes/checkpoint.ts`); null: at its beginning. */
    resume: bytea("resume"),
    done: bytes("done").notNull().default(0),
    total: bytes("total").notNull().default(0),
    foundLive: integer("found_live").notNull().default(0),
    foundLost: integer("found_lost").notNull().default(0),
    /** What it found lost, by place and kind. */
    kinds: jsonb("kinds").$type<PassKinds>().notNull().default([]),
    /** Raised by each worker that takes the pass, so that one thought dead cannot write any more. */
    epoch: integer("epoch").notNull().default(0),
    workerId: text("worker_id"),
    /** Workers that do not see its source: they leave it to others. */
    declined: text("declined").array().notNull().default([]),
    activeMs: bytes("active_ms").notNull().default(0),
    problem: text("problem"),
    /** Of a sweep: the stretches it looks through, small gaps closed. Disk byte offsets. */
    reach: jsonb("reach").$type<{ start: number; end: number }[]>(),
    /** Of a sweep: what it has found and not given out yet. */
    sighted: jsonb("sighted").$type<Sighted>(),
    createdAt: time("created_at").notNull().defaultNow(),
    finishedAt: time("finished_at"),
  },
  (table) => [index("passes_job").on(table.jobId)],
);

/** What passes over leftovers noted on their way, batch by batch, so that they can go on; gone when they end. */
export const passNotes = pgTable(
  "pass_notes",
  {
    id: bigserial("id", { mode: "number" }).primaryKey(),
    passId: integer("pass_id")
      .notNull()
      .references(() => passes.id, { onDelete: "cascade" }),
    noted: bytea("noted").notNull(),
  },
  (table) => [index("pass_notes_pass").on(table.passId, table.id)],
);

export type PassState = "queued" | "running" | "paused" | "stopped" | "done" | "failed";

/** Live workers; one not seen for a while is dead and its work goes on elsewhere. */
export const workers = pgTable("workers", {
  id: text("id").primaryKey(),
  host: text("host").notNull(),
  pid: integer("pid").notNull(),
  /** Names under which the queue knows this process. */
  queueNames: text("queue_names").array().notNull(),
  /** The sources its host sees; null: it has not looked, as long as no worker runs on another host. */
  sees: integer("sees").array(),
  startedAt: time("started_at").notNull().defaultNow(),
  lastSeen: time("last_seen").notNull().defaultNow(),
});

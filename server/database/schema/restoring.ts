/** What is chosen, and its restores. */

import { sql } from "drizzle-orm";
import { bigserial, boolean, doublePrecision, index, integer, jsonb, pgTable, serial, text, uniqueIndex } from "drizzle-orm/pg-core";
import type { RestoreLayout } from "../../../core/restore/arrange";
import type { Gaps } from "../../../core/restore/gaps";
import type { Conflict, RestoreForm, StreamWish } from "../../../core/restore/wishes";
import { bytes, time } from "./columns";
import { jobs } from "./jobs";

/** Where an application expects a file, instead of where it stood: in which home, in which folder, under which name; null: it is not known. */
const placing = {
  placeHome: integer("place_home"),
  placeFolder: text("place_folder"),
  placeName: text("place_name"),
};

/** What has been chosen to restore. */
export const trayEntries = pgTable(
  "tray_entries",
  {
    jobId: integer("job_id")
      .notNull()
      .references(() => jobs.id, { onDelete: "cascade" }),
    itemId: bytes("item_id").notNull(),
    /** The copy that was chosen; null: the item's best one, whichever that is. */
    copyId: bytes("copy_id"),
    ...placing,
    addedAt: time("added_at").notNull().defaultNow(),
  },
  (table) => [uniqueIndex("tray_entries_copy").on(table.jobId, table.itemId, sql`coalesce(${table.copyId}, 0)`)],
);

/** One writing of the tray to a destination. */
export const restores = pgTable(
  "restores",
  {
    id: serial("id").primaryKey(),
    jobId: integer("job_id")
      .notNull()
      .references(() => jobs.id, { onDelete: "cascade" }),
    /** Folder below the delivery folder. */
    destination: text("destination").notNull(),
    /** Which delivery folder, by its path; null: the usual one. A replacement is one without a folder below it. */
    delivery: text("delivery"),
    conflict: text("conflict").$type<Conflict>().notNull(),
    /** How its files lie below it. */
    layout: text("layout").$type<RestoreLayout>().notNull().default("tree"),
    /** A pattern of names; empty: they keep their own. */
    names: text("names").notNull().default(""),
    /** Plain files, or packages for the archive. */
    form: text("form").$type<RestoreForm>().notNull().default("files"),
    /** Bytes of payload a package holds at most; null: there is one. */
    bagLimit: bytes("bag_limit"),
    /** What becomes of named streams, resource forks and extended attributes. */
    streams: text("streams").$type<StreamWish>().notNull().default("leave"),
    /** Files that do not open are written repaired as well, where that can be done. */
    repaired: boolean("repaired").notNull().default(false),
    /** Bytes that belong to other files now are written as they stand, instead of zeros. */
    asFound: boolean("as_found").notNull().default(false),
    /** The press of the button that asked for it: the same one never starts two. */
    asked: text("asked").unique(),
    state: text("state").$type<RestoreState>().notNull().default("queued"),
    /** What it was asked to do; a worker follows after the files it has in hand. */
    wanted: text("wanted").$type<RestoreWish>().notNull().default("run"),
    /** It is paused because its destination is gone, and goes on when that is back. */
    waits: boolean("waits").notNull().default(false),
    epoch: integer("epoch").notNull().default(0),
    problem: text("problem"),
    createdAt: time("created_at").notNull().defaultNow(),
    finishedAt: time("finished_at"),
    /** When all its files were last read again and compared; null: not since they were written. */
    provenAt: time("proven_at"),
  },
  (table) => [index("restores_job").on(table.jobId)],
);

export const restoreResults = pgTable(
  "restore_results",
  {
    id: bigserial("id", { mode: "number" }).primaryKey(),
    restoreId: integer("restore_id")
      .notNull()
      .references(() => restores.id, { onDelete: "cascade" }),
    itemId: bytes("item_id").notNull(),
    copyId: bytes("copy_id").notNull(),
    /** Which of the copy's named streams is written, or all in the second file of the two-file form (-1), or its repaired form (-2); null: its content. */
    stream: integer("stream"),
    /** Where it stood for the client. */
    path: text("path").notNull(),
    condition: text("condition").notNull(),
    size: bytes("size").notNull(),
    /** What to do with this one when its name is taken; null: as the restore says. */
    conflict: text("conflict").$type<Conflict>(),
    /** Which package of the restore it lies in, from 1; null: in none. */
    bag: integer("bag"),
    state: text("state").$type<ResultState>().notNull().default("waiting"),
    ...placing,
    /** The item is restored in several copies: their names are distinguished by date. */
    dated: boolean("dated").notNull().default(false),
    /** Counts the copies of the restore, from 1: names may go by it. */
    number: integer("number").notNull().default(0),
    /** The stretches that are not the file's own bytes. */
    gaps: jsonb("gaps").$type<Gaps>(),
    /** Whether it was read again from the device itself; false: the system gave it from its memory; null: not written, or not known. */
    fromDevice: boolean("from_device"),
    /** When the file was last changed by its writer's own clock, as it was left: UTC milliseconds. */
    leftAt: doublePrecision("left_at"),
    /** What of the file could not go along, in words. */
    leftBehind: jsonb("left_behind").$type<string[]>(),
    /** What became of the file since; null: it is as it was left, as far as was looked. */
    since: text("since").$type<ResultSince>(),
    /** Where what was there before is kept, when it was replaced. Absolute path. */
    aside: text("aside"),
    /** Absolute path; set before the file gets its name, so that a later worker knows what is its own. */
    output: text("output"),
    sha256: text("sha256"),
    problem: text("problem"),
    finishedAt: time("finished_at"),
  },
  (table) => [
    index("results_restore").on(table.restoreId, table.id),
    index("results_open").on(table.restoreId, table.id).where(sql`state in ('waiting', 'writing')`),
    // The first file of a second one.
    index("results_first").on(table.restoreId, table.copyId).where(sql`stream is null`),
    // Which earlier file a later one replaces.
    index("results_output").using("hash", table.output).where(sql`output is not null`),
  ],
);

/** "gaps": written and read again the same, but with stretches that are not the file's own. "same": it was there already, byte for byte. */
export type ResultState = "waiting" | "writing" | "verified" | "gaps" | "same" | "skipped" | "failed";

export type RestoreState = "queued" | "running" | "paused" | "done" | "failed";

export type RestoreWish = "run" | "pause" | "stop";

export type ResultSince = "replaced" | "changed" | "gone";

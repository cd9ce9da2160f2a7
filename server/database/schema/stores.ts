/** What is read: sources, the stores in them, and the homes whose files they hold. */

import { sql } from "drizzle-orm";
import { type AnyPgColumn, boolean, index, integer, jsonb, pgTable, primaryKey, serial, text, uniqueIndex } from "drizzle-orm/pg-core";
import type { Range } from "../../../core/bytes/range-set";
import type { Finding, StateOfVolume } from "../../../core/filesystems/file-record";
import type { VolumeIdentity } from "../../../core/filesystems/file-system-kind";
import type { SetFacts } from "../../../core/sets/set-facts";
import type { Profile } from "../../../core/volumes/profiles";
import type { InnerFile } from "../../../io/inner-file";
import { bytea, bytes, time } from "./columns";
import { jobs } from "./jobs";

/** Something that is read and never written. */
export const sources = pgTable(
  "sources",
  {
    id: serial("id").primaryKey(),
    jobId: integer("job_id")
      .notNull()
      .references(() => jobs.id, { onDelete: "cascade" }),
    path: text("path").notNull(),
    name: text("name").notNull(),
    size: bytes("size").notNull(),
    container: text("container").notNull(),
    tableKind: text("table_kind").notNull(),
    notes: jsonb("notes").$type<string[]>().notNull(),
    /** Further files that hold parts or parents of it, chosen by hand. */
    beside: jsonb("beside").$type<string[]>().notNull().default([]),
    /** Of a disk inside another: the files that lead to it, from the outermost on; `path` is then where the outermost is. */
    within: jsonb("within").$type<InnerFile[]>().notNull().default([]),
    /** The store the last of them lies in; null: the source lies in none. */
    parentStoreId: integer("parent_store_id").references((): AnyPgColumn => stores.id, { onDelete: "cascade" }),
    /** Stretches that could not be read, as all readings so far found: they are not asked for again. Disk byte offsets. */
    unreadable: jsonb("unreadable").$type<Range[]>().notNull().default([]),
    /** The mark by which an image is known again (`io/source-mark.ts`); null: a drive, a folder, or one that cannot be marked. */
    mark: text("mark"),
    addedAt: time("added_at").notNull().defaultNow(),
  },
  (table) => [uniqueIndex("sources_job_path").on(table.jobId, table.path, sql`md5(${table.within}::text)`)],
);

export type VolumeStanding = "present" | "lost" | "earlier";

/** Something with a tree of named files: a volume of a source's disk, or a folder. */
export const stores = pgTable(
  "stores",
  {
    id: serial("id").primaryKey(),
    sourceId: integer("source_id")
      .notNull()
      .references(() => sources.id, { onDelete: "cascade" }),
    kind: text("kind").$type<"volume" | "folder">().notNull().default("volume"),
    /** The moment it speaks for; null: now. */
    asOf: time("as_of"),
    /** Whether its times are UTC, or local ones of the device that wrote them. */
    clock: text("clock").$type<"utc" | "local">().notNull().default("utc"),
    number: integer("number").notNull(),
    offset: bytes("offset_bytes").notNull(),
    length: bytes("length_bytes").notNull(),
    filesystem: text("filesystem").notNull(),
    /** Which of several volumes in the same place it is; null: there is one alone. */
    view: text("view"),
    /** Earlier states of it that can still be opened, as they were when its structure was read. */
    states: jsonb("states").$type<StateOfVolume[]>().notNull().default([]),
    label: text("label"),
    /** The low 32 bits of the volume's serial number; null: it has none. */
    serial: bytes("serial"),
    /** What tells the volume from all others, and of which drive it is a part; null: it does not say. */
    identity: jsonb("identity").$type<VolumeIdentity>(),
    clusterSize: integer("cluster_size"),
    /** Whether its records can be read. */
    readable: boolean("readable").notNull(),
    usedBytes: bytes("used_bytes"),
    /** Share in use of each of up to 2048 equal stretches, one byte each (0 … 255): what the disk chart draws. */
    usage: bytea("usage"),
    /** How it is known: by the partition table, or by its own traces where that says nothing. */
    standing: text("standing").$type<VolumeStanding>().notNull().default("present"),
    /** Why its content stays closed (encrypted); null: it does not. */
    closed: text("closed"),
    /** When the two below were read; null: not yet. */
    readingAt: time("reading_at"),
    /** What does not add up in it, as the last reading found. */
    findings: jsonb("findings").$type<Finding[]>().notNull().default([]),
    /** The users' profile folders on it. */
    profiles: jsonb("profiles").$type<Profile[]>().notNull().default([]),
    /** Backup sets that lie on it, and its snapshots, as the last pass over earlier states found them. */
    sets: jsonb("sets").$type<(Omit<SetFacts, "id"> & { readonly id?: string })[]>().notNull().default([]),
    notes: jsonb("notes").$type<string[]>().notNull(),
  },
  (table) => [index("stores_source").on(table.sourceId)],
);

/** A drive as the client knew it. Stores show it, or parts of it, at one time or another; copies from all of them gather by its paths. */
export const homes = pgTable(
  "homes",
  {
    id: serial("id").primaryKey(),
    jobId: integer("job_id")
      .notNull()
      .references(() => jobs.id, { onDelete: "cascade" }),
    label: text("label").notNull(),
    /** Whether names that differ in capitals alone are different names on it. */
    caseSensitive: boolean("case_sensitive").notNull().default(false),
  },
  (table) => [index("homes_job").on(table.jobId)],
);

/** Which home the paths of a store are those of: what stands below `below` in the store stands below `at` in the home. The longest `below` counts. */
export const homePaths = pgTable(
  "home_paths",
  {
    storeId: integer("store_id")
      .notNull()
      .references(() => stores.id, { onDelete: "cascade" }),
    /** A folder of the store, without a slash at its end; "": all of it. */
    below: text("below").notNull().default(""),
    homeId: integer("home_id")
      .notNull()
      .references(() => homes.id, { onDelete: "cascade" }),
    at: text("at").notNull().default(""),
    /** How it is known that they are the same; null: the store is the home's first. */
    reason: text("reason"),
  },
  (table) => [primaryKey({ columns: [table.storeId, table.below] }), index("home_paths_home").on(table.homeId)],
);

/** Folders that were put on the list of source folders by hand; they lie where the settings allow it. */
export const sourceFolders = pgTable("source_folders", {
  path: text("path").primaryKey(),
  addedAt: time("added_at").notNull().defaultNow(),
});

/** What was found: files as the client knew them, and the copies of each. */

import { sql } from "drizzle-orm";
import {
  bigserial,
  boolean,
  doublePrecision,
  index,
  integer,
  jsonb,
  pgTable,
  primaryKey,
  serial,
  smallint,
  text,
  uniqueIndex,
} from "drizzle-orm/pg-core";
import type { CopyFacts } from "../../../core/copies/facts";
import type { Absence } from "../../../core/filesystems/file-record";
import type { FileAt } from "../../../io/folder-source";
import { bytea, bytes, int8range, plainText, time, tstzrange, uuid } from "./columns";
import { jobs } from "./jobs";

/** Folder paths of homes, each stored once. */
export const folders = pgTable(
  "folders",
  {
    id: serial("id").primaryKey(),
    jobId: integer("job_id").notNull(),
    homeId: integer("home_id").notNull(),
    path: text("path").notNull(),
    /** What all ways of writing the path have in common in its home: a hash of it in Unicode's composed form, and in small letters. */
    folded: uuid("folded").notNull(),
    /** The folder this is another way of writing; null: it is the first one. */
    sameAs: integer("same_as"),
  },
  (table) => [
    uniqueIndex("folders_home_path").on(table.homeId, sql`md5(${table.path})`),
    uniqueIndex("folders_home_folded").on(table.homeId, table.folded).where(sql`same_as is null`),
    index("folders_path_words").using("gin", sql`plain_words(${table.path}) gin_trgm_ops`),
    index("folders_job").on(table.jobId),
  ],
);

/** One file as the client knew it; gathers its copies. The columns from `kind` on describe its best copy. */
export const items = pgTable(
  "items",
  {
    id: bigserial("id", { mode: "number" }).primaryKey(),
    jobId: integer("job_id").notNull(),
    /** Where it stood in its home. */
    folderId: integer("folder_id").notNull(),
    /** What makes copies in its folder the same item: the name, and the record itself where name or folder is not known. */
    key: plainText("key").notNull(),
    name: text("name").notNull(),
    kind: text("kind").notNull(),
    lost: boolean("lost").notNull(),
    copies: integer("copies").notNull().default(1),
    /** The kinds of place its copies were found in. */
    places: text("places").array().notNull(),
    /** The stores its copies are in. */
    stores: integer("stores").array().notNull(),
    bestCopyId: bytes("best_copy_id").notNull(),
    /** The technician has chosen the copy: it stays whatever else is found. */
    overruled: boolean("overruled").notNull().default(false),
    size: bytes("size").notNull(),
    modified: time("modified"),
    condition: text("condition").notNull(),
    survival: doublePrecision("survival").notNull(),
    /** What the content of its best copy says of itself, where it was looked into; null: it was not. */
    facts: jsonb("facts").$type<CopyFacts>(),
    /** Whether its best copy is a live file. */
    live: boolean("live").notNull().default(false),
    /** Whether the content of its best copy opens: "yes", "no", "unknown"; null: nobody looked. */
    opens: text("opens"),
    created: time("created"),
    deletedAt: time("deleted_at"),
    /** Of its name, without the dot, in small letters; "": it has none. */
    extension: text("extension").notNull().default(""),
  },
  (table) => [
    uniqueIndex("items_folder_key").on(table.folderId, table.key),
    // Names that come in are filed many at a time (KiB waiting at most), which takes half as long.
    index("items_name_words").using("gin", sql`plain_words(${table.name}) gin_trgm_ops`).with({ gin_pending_list_limit: 32_768 }),
    // One index a sort order, so that any page is read in order without sorting.
    index("items_by_name").on(table.jobId, sql`(lower(${table.name}) collate "C")`, table.id),
    index("items_by_name_lost").on(table.jobId, sql`(lower(${table.name}) collate "C")`, table.id).where(sql`lost`),
    index("items_by_changed").on(table.jobId, sql`coalesce(${table.modified}, '-infinity'::timestamptz)`, table.id),
    index("items_by_size").on(table.jobId, table.size, table.id),
    index("items_by_survival").on(table.jobId, table.survival, table.id),
    // How many are lost, and what is left of them.
    index("items_lost_condition").on(table.jobId, table.condition).where(sql`lost`),
  ],
);

/** One recoverable instance of a file. No foreign keys: rows come by the million. */
export const copies = pgTable(
  "copies",
  {
    id: bigserial("id", { mode: "number" }).primaryKey(),
    jobId: integer("job_id").notNull(),
    passId: integer("pass_id").notNull(),
    storeId: integer("store_id").notNull(),
    itemId: bytes("item_id"),
    folderId: integer("folder_id").notNull(),
    place: text("place").notNull(),
    state: text("state").notNull(),
    type: text("type").notNull(),
    reference: text("reference").notNull(),
    name: text("name").notNull(),
    nameRaw: bytea("name_raw").notNull(),
    size: bytes("size").notNull(),
    created: time("created"),
    modified: time("modified"),
    changed: time("changed"),
    /** When it was deleted, where something gives it. */
    deletedAt: time("deleted_at"),
    condition: text("condition").notNull(),
    survival: doublePrecision("survival").notNull(),
    evidence: jsonb("evidence").notNull(),
    layout: bytea("layout"),
    /** Disk byte offset of its first stored byte. */
    firstAt: bytes("first_at"),
    /** From its first disk byte to behind its last, where they do not stand in one stretch; null: they do, or none is stored. */
    span: int8range("span"),
    /** Its named streams, with their layouts encoded in base64; null: it has none. */
    streams: jsonb("streams").$type<{ name: string; size: number; layout: string | null }[]>(),
    /** Names the file has on its volume. */
    links: integer("links").notNull().default(1),
    /** What of `FILE_MARK` it has; null: none, or not known. */
    marks: smallint("marks"),
    /** Why its content cannot be read here; null: it can, or there is none. */
    absent: text("absent").$type<Absence>(),
    notes: jsonb("notes").$type<string[]>().notNull(),
    /** In a folder of this computer: the file below it that holds the content. */
    file: text("file"),
    /** Size and dates of that file, where it is not the content alone (an archive); without a size: those of the copy. */
    fileSize: bytes("file_size"),
    fileModified: time("file_modified"),
    fileCreated: time("file_created"),
    /** Further files of the folder the content stands in: the layout counts over all of them, one behind the other; null: there are none. */
    fileFurther: jsonb("file_further").$type<FileAt[]>(),
    /** In a known place: by which rule, and where it was really found. */
    rule: text("rule"),
    foundPath: text("found_path"),
    /** What the content says of itself; null: it was not looked into. */
    facts: jsonb("facts").$type<CopyFacts>(),
    /** Its times of creation and change are local ones, read in the job's zone; otherwise they are UTC. */
    localTimes: boolean("local_times").notNull().default(false),
    /** SHA-256 of its content, where it was computed. */
    sha256: bytea("sha256"),
    /** The span it stands for: from the first state that has it until the next one that says otherwise; null: one state alone, that of its store. */
    present: tstzrange("present"),
    /** The backup set, or the snapshots, of its store that it was kept in (`setKey` in passes/copy-rows.ts); null: none. */
    setKey: text("set_key"),
    /** What distinguishes versions of one file, as its store knows them. */
    sameAs: text("same_as"),
    /** Where the same file stands in the state that does not have it here any more. */
    movedTo: text("moved_to"),
  },
  (table) => [
    index("copies_item").on(table.itemId),
    index("copies_pass").on(table.passId),
    // Who owns the bytes under the pointer on the disk chart.
    index("copies_first_at").on(table.storeId, table.firstAt),
    index("copies_span").using("gist", table.span).where(sql`span is not null`),
    // What was there at a moment.
    // Which sets a job has copies from.
    index("copies_set").on(table.jobId, table.storeId, table.setKey).where(sql`set_key is not null`),
    index("copies_present").using("gist", table.present).where(sql`present is not null`),
    // One index an order in which what stood at a moment is listed.
    index("copies_then_by_changed")
      .on(table.jobId, sql`coalesce(${table.modified}, '-infinity'::timestamptz)`, table.itemId)
      .where(sql`present is not null`),
    index("copies_then_by_size").on(table.jobId, table.size, table.itemId).where(sql`present is not null`),
    index("copies_then_by_survival").on(table.jobId, table.survival, table.itemId).where(sql`present is not null`),
    // The same of all other copies: lists of versions by date go through both. (One for each order would make storing copies half as slow again.)
    index("copies_other_by_changed")
      .on(table.jobId, sql`coalesce(${table.modified}, '-infinity'::timestamptz)`, table.itemId)
      .where(sql`present is null`),
    // What may have become of files since a moment: versions that ended, last ones, moved ones, and what is there by its dates alone.
    index("copies_last").on(table.jobId, sql`lower(${table.present})`).where(sql`upper_inf(present)`),
    index("copies_moved").on(table.jobId, table.itemId).where(sql`moved_to is not null`),
    index("copies_ended").on(table.jobId, sql`upper(${table.present})`).where(sql`not upper_inf(present)`),
    index("copies_there_by_dates")
      .on(table.jobId, table.itemId)
      .where(sql`present is null and (deleted_at is not null or (state = 'live' and place <> 'file-record'))`),
  ],
);

/** Small pictures of copies, once they are made: in the database, where every web server and worker reaches them, and gone with the copy. */
export const thumbnails = pgTable("thumbnails", {
  copyId: bytes("copy_id").primaryKey(),
  picture: bytea("picture").notNull(),
});

/** Copies whose content is to be looked at, until it was. */
export const copyChecks = pgTable(
  "copy_checks",
  {
    jobId: integer("job_id")
      .notNull()
      .references(() => jobs.id, { onDelete: "cascade" }),
    copyId: bytes("copy_id").notNull(),
  },
  (table) => [primaryKey({ columns: [table.jobId, table.copyId] })],
);

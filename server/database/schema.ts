import { sql } from "drizzle-orm";
import {
  type AnyPgColumn,
  bigint,
  bigserial,
  boolean,
  customType,
  doublePrecision,
  index,
  integer,
  jsonb,
  pgTable,
  primaryKey,
  serial,
  smallint,
  text,
  timestamp,
  uniqueIndex,
} from "drizzle-orm/pg-core";
import type { Range } from "../../core/bytes/range-set";
import type { CopyFacts } from "../../core/copies/facts";
import type { Absence, Finding, StateOfVolume } from "../../core/filesystems/file-record";
import type { VolumeIdentity } from "../../core/filesystems/file-system-kind";
import type { PlaceRule } from "../../core/places/rule";
import type { Account } from "../../core/plan/account";
import type { RestoreLayout } from "../../core/restore/arrange";
import type { Gaps } from "../../core/restore/gaps";
import type { Conflict, RestoreForm, StreamWish } from "../../core/restore/wishes";
import type { SetFacts } from "../../core/sets/set-facts";
import type { Profile } from "../../core/volumes/profiles";
import type { InnerFile } from "../../io/inner-file";
import type { PassKinds, PassOptions, Sighted } from "../passes/contract";
import type { ShareScope } from "../shares/contract";

const bytea = customType<{ data: Buffer }>({ dataType: () => "bytea" });
const uuid = customType<{ data: string }>({ dataType: () => "uuid" });
const tstzrange = customType<{ data: string }>({ dataType: () => "tstzrange" });
const int8range = customType<{ data: string }>({ dataType: () => "int8range" });
/** Text that is distinguished and ordered by its bytes, which for UTF-8 is the order of code points, and quick. */
const plainText = customType<{ data: string }>({ dataType: () => 'text collate "C"' });
const bytes = (name: string) => bigint(name, { mode: "number" });
const time = (name: string) => timestamp(name, { withTimezone: true, mode: "date" });

/** One client's recovery. */
export const jobs = pgTable("jobs", {
  id: serial("id").primaryKey(),
  title: text("title").notNull(),
  client: text("client").notNull().default(""),
  timeZone: text("time_zone").notNull().default("UTC"),
  /** For the handover: who did the work, for which firm, under which number of theirs. */
  technician: text("technician").notNull().default(""),
  firm: text("firm").notNull().default(""),
  number: text("number").notNull().default(""),
  createdAt: time("created_at").notNull().defaultNow(),
  lastActivity: time("last_activity").notNull().defaultNow(),
  archivedAt: time("archived_at"),
  /** The hash of the newest entry of its log. */
  logHash: text("log_hash"),
  /** The item that was looked for, once it is found. */
  foundItemId: bytes("found_item_id"),
});

/** What the client says was lost; a job may have several. */
export const accounts = pgTable(
  "accounts",
  {
    id: serial("id").primaryKey(),
    jobId: integer("job_id")
      .notNull()
      .references(() => jobs.id, { onDelete: "cascade" }),
    /** Their order in the job. */
    position: integer("position").notNull().default(0),
    account: jsonb("account").$type<Account>().notNull(),
    updatedAt: time("updated_at").notNull().defaultNow(),
  },
  (table) => [index("accounts_job").on(table.jobId, table.position)],
);

/** What the technician changed in a job's plan, by the step's key. */
export const planMarks = pgTable(
  "plan_marks",
  {
    jobId: integer("job_id")
      .notNull()
      .references(() => jobs.id, { onDelete: "cascade" }),
    stepKey: text("step_key").notNull(),
    /** Where it stands among the others; null: where the plan puts it. */
    position: doublePrecision("position"),
    /** Why it is left out; null: it is not. */
    skipped: text("skipped"),
    /** Done by hand, with what came of it. */
    doneByHand: text("done_by_hand"),
    /** A kind of step the technician added. */
    added: boolean("added").notNull().default(false),
  },
  (table) => [primaryKey({ columns: [table.jobId, table.stepKey] })],
);

/** Rules of known places that were added on this bench, and marks on the shipped ones that are switched off. */
export const placeRules = pgTable("place_rules", {
  id: text("id").primaryKey(),
  off: boolean("off").notNull().default(false),
  /** null: a shipped rule. */
  rule: jsonb("rule").$type<PlaceRule>(),
});

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
  ],
);

/** Small pictures of copies, once they are made: in the database, where every web server and worker reaches them, and gone with the copy. */
export const thumbnails = pgTable("thumbnails", {
  copyId: bytes("copy_id").primaryKey(),
  picture: bytea("picture").notNull(),
});

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

/** What was done, when, to what. */
export const logEntries = pgTable(
  "log_entries",
  {
    id: bigserial("id", { mode: "number" }).primaryKey(),
    jobId: integer("job_id").references(() => jobs.id, { onDelete: "cascade" }),
    at: time("at").notNull().defaultNow(),
    what: text("what").notNull(),
    detail: jsonb("detail").notNull().default({}),
    /** Its own hash, over the one of the job's entry before it and what it says; null: written before the log was a chain. */
    hash: text("hash"),
  },
  (table) => [index("log_job").on(table.jobId, table.id)],
);

/** A link under which a client reaches a job, or its handover, from another computer. */
export const shares = pgTable(
  "shares",
  {
    id: serial("id").primaryKey(),
    jobId: integer("job_id")
      .notNull()
      .references(() => jobs.id, { onDelete: "cascade" }),
    scope: text("scope").$type<ShareScope>().notNull(),
    /** For whom it was made. */
    label: text("label").notNull(),
    /** SHA-256 of the secret in its address, hexadecimal: the address itself is kept nowhere. */
    secretHash: text("secret_hash").notNull().unique(),
    /** Salted hash of its password (`secrets.ts`). */
    passwordHash: text("password_hash").notNull(),
    createdAt: time("created_at").notNull().defaultNow(),
    endsAt: time("ends_at").notNull(),
    revokedAt: time("revoked_at"),
    /** Passwords tried since the last right one, and when the next one is looked at. */
    tries: integer("tries").notNull().default(0),
    nextTryAt: time("next_try_at"),
    lastOpenedAt: time("last_opened_at"),
  },
  (table) => [index("shares_job").on(table.jobId)],
);

/** A browser that gave the right password; it holds the secret in a cookie. */
export const shareSessions = pgTable("share_sessions", {
  secretHash: text("secret_hash").primaryKey(),
  shareId: integer("share_id")
    .notNull()
    .references(() => shares.id, { onDelete: "cascade" }),
  endsAt: time("ends_at").notNull(),
});

/** The copies a client chose by a link: those that were shown. They stay chosen when items are joined. */
export const shareChoices = pgTable(
  "share_choices",
  {
    shareId: integer("share_id")
      .notNull()
      .references(() => shares.id, { onDelete: "cascade" }),
    copyId: bytes("copy_id").notNull(),
  },
  (table) => [primaryKey({ columns: [table.shareId, table.copyId] })],
);

/** Folders that were put on the list of source folders by hand; they lie where the settings allow it. */
export const sourceFolders = pgTable("source_folders", {
  path: text("path").primaryKey(),
  addedAt: time("added_at").notNull().defaultNow(),
});

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

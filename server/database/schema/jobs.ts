/** Jobs: what a client says, the plan, and the log. */

import { bigserial, boolean, doublePrecision, index, integer, jsonb, pgTable, primaryKey, serial, text } from "drizzle-orm/pg-core";
import type { PlaceRule } from "../../../core/places/rule";
import type { Account } from "../../../core/plan/account";
import { bytes, time } from "./columns";

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

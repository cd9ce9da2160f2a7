/** Links under which clients reach their jobs. */

import { index, integer, pgTable, primaryKey, serial, text } from "drizzle-orm/pg-core";
import type { ShareScope } from "../../shares/contract";
import { bytes, time } from "./columns";
import { jobs } from "./jobs";

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

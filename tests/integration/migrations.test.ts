import { cpSync, mkdtempSync, readFileSync, writeFileSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { drizzle } from "drizzle-orm/node-postgres";
import { migrate } from "drizzle-orm/node-postgres/migrator";
import pg from "pg";
import { describe, expect, it } from "vitest";
import { findAccounts } from "../../server/accounts/queries";
import { open } from "../../server/database/connection";
import { migrateDatabase } from "../../server/database/migrate";
import { listJobs } from "../../server/jobs/queries";
import { listRules } from "../../server/places/queries";
import { emptyDatabase } from "../support/scratch-database";

const FOLDER = "server/database/migrations";

/** The migrations as they were before the one with this number. */
function migrationsBefore(number: number): string {
  const folder = join(mkdtempSync(join(tmpdir(), "compass-migrations-")), "migrations");
  cpSync(FOLDER, folder, { recursive: true });
  const file = join(folder, "meta/_journal.json");
  const journal = JSON.parse(readFileSync(file, "utf8")) as { entries: { idx: number }[] };
  writeFileSync(file, JSON.stringify({ ...journal, entries: journal.entries.filter((entry) => entry.idx < number) }));
  return folder;
}

describe("a database of an earlier version", () => {
  it("keeps the account of each loss when accounts become sentences of their own", async () => {
    const url = await emptyDatabase();
    const client = new pg.Client({ connectionString: url });
    await client.connect();
    await migrate(drizzle(client), { migrationsFolder: migrationsBefore(5) });
    await client.query(`insert into jobs (title) values ('Old one'), ('Silent one')`);
    await client.query(
      `insert into accounts (job_id, kind, name_hint, folder, system, user_name, cause, lost_at, contained)
       values (1, 'documents', 'funding', 'Documents', 'windows', 'mo', 'deleted-past-bin', '2026-03-12T15:00:00Z', 'mirror')`,
    );
    await client.end();
    await migrateDatabase(url);
    await migrateDatabase(url);
    const { db, pool } = open(url);
    const [account] = await findAccounts(db, 1);
    expect(account).toMatchObject({
      kinds: ["documents"],
      nameHint: "funding",
      folder: "Documents",
      system: "windows",
      userName: "mo",
      cause: "deleted-past-bin",
      contained: "mirror",
    });
    expect(account?.lost).toEqual({ text: "2026-03-12", from: Date.UTC(2026, 2, 12), to: Date.UTC(2026, 2, 13) - 1 });
    const jobs = await listJobs(db);
    expect(jobs.find((job) => job.title === "Old one")?.lost).toContain("They deleted it past the bin on 12 March 2026.");
    expect(jobs.find((job) => job.title === "Silent one")?.lost).toBeNull();
    await pool.end();
  });

  it("keeps the note of rules of one's own when the words for it change", async () => {
    const url = await emptyDatabase();
    const client = new pg.Client({ connectionString: url });
    await client.connect();
    await migrate(drizzle(client), { migrationsFolder: migrationsBefore(18) });
    const rule = {
      id: "own-1",
      title: "Drafts",
      system: "any",
      place: "autosave",
      where: ["*/Drafts"],
      reader: "file",
      holds: "Drafts.",
      ties: "none",
    };
    await client.query("insert into place_rules (id, rule) values ('own-1', $1)", [
      { ...rule, naming: { extension: "content" }, told: "A draft that was kept." },
    ]);
    await client.end();
    await migrateDatabase(url);
    const { db, pool } = open(url);
    const stored = (await listRules(db)).find(({ id }) => id === "own-1");
    expect(stored).toMatchObject({ ...rule, note: "A draft that was kept.", own: true });
    expect(stored).not.toHaveProperty("told");
    await pool.end();
  });
});

import { cpSync, mkdtempSync, readFileSync, writeFileSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { drizzle } from "drizzle-orm/node-postgres";
import { migrate } from "drizzle-orm/node-postgres/migrator";
import pg from "pg";
import { describe, expect, it } from "vitest";
import { readNumberCheckpoint } from "../../core/bytes/checkpoint";
import { findAccounts } from "../../server/accounts/queries";
import { open } from "../../server/database/connection";
import { migrateDatabase } from "../../server/database/migrate";
import { itemQuery } from "../../server/items/contract";
import { listItems } from "../../server/items/list";
import { findItem } from "../../server/items/queries";
import { listJobs } from "../../server/jobs/queries";
import { listPasses } from "../../server/passes/queries";
import { listRules } from "../../server/places/queries";
import { listSources } from "../../server/sources/queries";
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

  it("keeps sources, volumes, passes, items and copies when volumes become stores, and passes go on where they stopped", async () => {
    const url = await emptyDatabase();
    const client = new pg.Client({ connectionString: url });
    await client.connect();
    await migrate(drizzle(client), { migrationsFolder: migrationsBefore(20) });
    await client.query(`
      insert into jobs (title) values ('Filled');
      insert into sources (job_id, path, name, size, container, table_kind, notes) values
        (1, '/drive.img', 'drive.img', 1000000, 'raw', 'mbr', '["a note"]'), (1, '/shelf', 'shelf', 0, 'folder', 'none', '[]');
      insert into volumes (source_id, number, offset_bytes, length_bytes, filesystem, label, readable, notes) values
        (1, 0, 65536, 500000, 'ntfs', 'Laptop', true, '[]'), (1, 1, 600000, 300000, 'fat32', 'Stick', true, '[]'),
        (2, 0, 0, 0, 'folder', 'shelf', true, '[]');
      insert into passes (job_id, source_id, volume_id, place, state, resume, done, total) values
        (1, 1, 1, 'file-record', 'done', 300, 300, 300), (1, 1, 2, 'raw', 'paused', 655360, 55360, 300000),
        (1, 2, 3, 'file-record', 'paused', 7, 7, 20), (1, 1, 2, 'file-record', 'queued', 0, 0, 0);
      insert into folders (job_id, volume_id, path) values (1, 1, '/Documents');
      insert into items (job_id, volume_id, folder_id, key, name, kind, lost, places, best_copy_id, size, condition, survival)
        values (1, 1, 1, '1:/documents/a.txt', 'a.txt', 'documents', true, '{file-record}', 1, 5, 'whole', 1);
      insert into copies (job_id, pass_id, volume_id, item_id, folder_id, place, state, type, reference, name, name_raw, size, condition,
          survival, evidence, notes)
        values (1, 1, 1, 1, 1, 'file-record', 'deleted', 'file', 'MFT record 40', 'a.txt', '', 5, 'whole', 1,
          '{"usedByOthers":0,"takenLater":0,"lost":0,"unreadable":0,"content":null}', '[]');`);
    await client.end();
    await migrateDatabase(url);
    const { db, pool } = open(url);
    const sources = await listSources(db, 1);
    expect(sources.map(({ name, within, parentStoreId }) => [name, within, parentStoreId])).toEqual([
      ["drive.img", [], null],
      ["shelf", [], null],
    ]);
    expect(sources.flatMap(({ volumes }) => volumes.map(({ id, label }) => [id, label]))).toEqual([
      [1, "Laptop"],
      [2, "Stick"],
      [3, "shelf"],
    ]);
    const { rows: stores } = await pool.query("select kind, clock, as_of from stores order by id");
    expect(stores).toEqual([
      { kind: "volume", clock: "utc", as_of: null },
      { kind: "volume", clock: "local", as_of: null },
      { kind: "folder", clock: "utc", as_of: null },
    ]);
    const { rows: passes } = await pool.query<{ resume: Buffer | null }>("select resume from passes order by id");
    expect(passes.map(({ resume }) => readNumberCheckpoint(resume))).toEqual([300, 655_360, 7, 0]);
    expect((await listPasses(db, 1)).map(({ storeId }) => storeId).sort()).toEqual([1, 2, 2, 3]);
    const { items } = await listItems(db, 1, itemQuery.parse({}));
    expect(items.map(({ name, folder }) => `${folder}/${name}`)).toEqual(["/Documents/a.txt"]);
    expect((await findItem(db, items[0]?.id as number))?.list.map(({ reference }) => reference)).toEqual(["MFT record 40"]);
    await pool.end();
  });
});

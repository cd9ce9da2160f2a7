import { createHash } from "node:crypto";
import { cpSync, mkdtempSync, readFileSync, writeFileSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { drizzle } from "drizzle-orm/node-postgres";
import { migrate } from "drizzle-orm/node-postgres/migrator";
import pg from "pg";
import { describe, expect, it } from "vitest";
import { readNumberCheckpoint } from "../../core/bytes/checkpoint";
import { RESTS_ON_RECORDS } from "../../core/copies/copy";
import { EMPTIED } from "../../core/filesystems/file-record";
import { findAccounts } from "../../server/accounts/queries";
import { open } from "../../server/database/connection";
import { migrateDatabase } from "../../server/database/migrate";
import { listHomes } from "../../server/homes/queries";
import { itemQuery } from "../../server/items/contract";
import { listItems } from "../../server/items/list";
import { findItem } from "../../server/items/queries";
import { listJobs } from "../../server/jobs/queries";
import { copyRows } from "../../server/passes/copy-rows";
import { listPasses } from "../../server/passes/queries";
import { storeCopies } from "../../server/passes/store-copies";
import { listRules } from "../../server/places/queries";
import { listSources } from "../../server/sources/queries";
import { copyAt } from "../support/copies";
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

/** An empty database as it was before the migration with this number. */
async function databaseBefore(number: number): Promise<{ url: string; client: pg.Client }> {
  const url = await emptyDatabase();
  const client = new pg.Client({ connectionString: url });
  await client.connect();
  await migrate(drizzle(client), { migrationsFolder: migrationsBefore(number) });
  return { url, client };
}

describe("a database of an earlier version", () => {
  it("keeps the account of each loss when accounts become sentences of their own", async () => {
    const { url, client } = await databaseBefore(5);
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
    const { url, client } = await databaseBefore(18);
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
    const { url, client } = await databaseBefore(20);
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

  it("keeps every item and copy when paths become those of homes, and what is found again gathers with them", async () => {
    const { url, client } = await databaseBefore(23);
    const evidence = `'{"usedByOthers":0,"takenLater":0,"lost":0,"unreadable":0,"content":null}'`;
    // Keys as they were: store and path in small letters; the record behind them where folder or name is not known; a file that differs in
    // capitals alone; a hash where they were too long.
    const long = "x".repeat(420);
    const hash = createHash("sha256").update(`1:/docs/${long}/b.txt`).digest("hex");
    const twin = createHash("md5").update("MFT record 44").digest("hex");
    const rows: [key: string, folder: number, name: string, reference: string][] = [
      ["1:/docs/größe.txt", 1, "Größe.txt", "MFT record 40"],
      ["1:/?/lost/a.txt#MFT record 41", 3, "a.txt", "MFT record 41"],
      ["1:/docs/?ote.txt#FAT entry 512/3", 1, "?ote.txt", "FAT entry 512/3"],
      [`1#${hash}`, 5, "b.txt", "MFT record 43"],
      [`1:/docs/größe.txt#${twin}`, 2, "größe.txt", "MFT record 44"],
      ["2:/docs/größe.txt", 4, "Größe.txt", "MFT record 40"],
    ];
    await client.query(`
      insert into jobs (title) values ('Filled');
      insert into sources (job_id, path, name, size, container, table_kind, notes) values (1, '/drive.img', 'drive.img', 1000000, 'raw', 'mbr', '[]');
      insert into stores (source_id, number, offset_bytes, length_bytes, filesystem, label, readable, notes) values
        (1, 0, 65536, 500000, 'ntfs', 'Laptop', true, '[]'), (1, 1, 600000, 300000, 'fat32', null, true, '[]');
      insert into passes (job_id, source_id, store_id, place, state, done, total) values (1, 1, 1, 'file-record', 'paused', 1, 2);
      insert into folders (job_id, store_id, path) values (1, 1, '/Docs'), (1, 1, '/docs'), (1, 1, '/?/lost'), (1, 2, '/Docs'), (1, 1, '/Docs/${long}');
      insert into tray_entries (job_id, item_id) values (1, 2);`);
    for (const [index, [key, folder, name, reference]] of rows.entries()) {
      const store = folder === 4 ? 2 : 1;
      await client.query(
        `insert into items (job_id, store_id, folder_id, key, name, kind, lost, places, best_copy_id, size, condition, survival)
         values (1, $1, $2, $3, $4, 'documents', true, '{file-record}', $5, 5, 'whole', 1)`,
        [store, folder, key, name, index + 1],
      );
      await client.query(
        `insert into copies (job_id, pass_id, store_id, item_id, folder_id, place, state, type, reference, name, name_raw, size, condition, survival, evidence, notes)
         values (1, 9, $1, $2, $3, 'file-record', 'deleted', 'file', $4, $5, '', 5, 'whole', 1, ${evidence}, '[]')`,
        [store, index + 1, folder, reference, name],
      );
    }
    await client.end();
    await migrateDatabase(url);
    const { db, pool } = open(url);
    const items = async () => (await listItems(db, 1, itemQuery.parse({ limit: 100 }))).items;
    const before = await items();
    expect(before.map(({ id, folder, name, volume }) => [id, folder, name, volume]).sort()).toEqual([
      [1, "/Docs", "Größe.txt", "Laptop"],
      [2, "/?/lost", "a.txt", "Laptop"],
      [3, "/Docs", "?ote.txt", "Laptop"],
      [4, `/Docs/${long}`, "b.txt", "Laptop"],
      [5, "/docs", "größe.txt", "Laptop"],
      [6, "/Docs", "Größe.txt", "volume 1"],
    ]);
    expect(before.filter(({ inTray }) => inTray).map(({ id }) => id)).toEqual([2]);
    expect((await listHomes(db, 1)).homes.map(({ label, items: count }) => [label, count])).toEqual([
      ["Laptop", 5],
      ["volume 1", 1],
    ]);
    // The pass goes on and meets the same files once more, in another way of writing: no item is added.
    const again = rows.slice(0, 4).map(([, folder, name, reference]) =>
      copyAt(`${["", "/DOCS", "", "/?/lost", "", `/docs/${long}`][folder]}/${name}`, {
        reference,
        incompleteName: name.startsWith("?"),
        condition: "partial",
      }),
    );
    const connection = await pool.connect();
    await connection.query("begin");
    await storeCopies(connection, { id: 1, jobId: 1, place: "file-record", epoch: 1, volume: { id: 1 } }, copyRows(again, 1));
    await connection.query("commit");
    connection.release();
    expect((await items()).map(({ id, copies }) => [id, copies]).sort()).toEqual([
      [1, 2],
      [2, 2],
      [3, 2],
      [4, 2],
      [5, 1],
      [6, 1],
    ]);
    await pool.end();
  });

  it("stops passes that would go on by a number of an order that is no more, keeps what they found, and says so", async () => {
    const { url, client } = await databaseBefore(42);
    await client.query(`
      insert into jobs (title) values ('Old one');
      insert into sources (job_id, path, name, size, container, table_kind, notes) values (1, '/s/disk.img', 'disk.img', 1000000, 'raw', 'mbr', '[]');
      insert into stores (source_id, number, offset_bytes, length_bytes, filesystem, label, readable, notes) values
        (1, 0, 65536, 500000, 'fat32', 'Stick', true, '[]'), (1, 1, 600000, 300000, 'ntfs', null, true, '[]');
      insert into passes (job_id, source_id, store_id, place, state, resume, found_lost) values
        (1, 1, 1, 'file-record', 'paused', '\\x01', 7), (1, 1, 1, 'leftover-record', 'queued', '\\x01', 0), (1, 1, 1, 'file-record', 'queued', null, 0),
        (1, 1, 1, 'raw', 'paused', '\\x01', 0), (1, 1, 1, 'file-record', 'done', '\\x01', 3), (1, 1, 2, 'file-record', 'paused', '\\x01', 0);
      insert into pass_notes (pass_id, noted) values (2, '\\x01'), (6, '\\x01');`);
    await client.end();
    await migrateDatabase(url);
    const { pool } = open(url);
    const { rows } = await pool.query(
      "select state, resume is null as anew, problem is not null as described, found_lost from passes order by id",
    );
    expect(rows.map(({ state, anew, described, found_lost }) => [state, anew, described, found_lost])).toEqual([
      ["stopped", true, true, 7],
      ["stopped", true, true, 0],
      ["queued", true, false, 0],
      ["paused", false, false, 0],
      ["done", false, false, 3],
      ["paused", false, false, 0],
    ]);
    expect((await pool.query("select pass_id from pass_notes")).rows).toEqual([{ pass_id: 6 }]);
    await pool.end();
  });

  it("stops readings of archives that would go on by a number, leaves those that still can, and calls nothing empty that need not be", async () => {
    const { url, client } = await databaseBefore(48);
    await client.query(`
      insert into jobs (title) values ('Old one');
      insert into sources (job_id, path, name, size, container, table_kind, notes) values (1, '/s/a.tar', 'a.tar', 1000000, 'raw', 'none', '[]');
      insert into stores (source_id, number, offset_bytes, length_bytes, filesystem, label, readable, notes) values
        (1, 0, 0, 500000, 'tar', null, true, '[]'), (1, 1, 0, 300000, 'zip', null, true, '[]'),
        (1, 2, 0, 300000, 'zip', null, true, '["The list of contents of this archive is gone: its files are found by what stands before each of them."]');
      insert into folders (job_id, home_id, path, folded) values (1, 1, '/Docs', gen_random_uuid());
      insert into passes (job_id, source_id, store_id, place, state, resume) values
        (1, 1, 1, 'file-record', 'paused', '\\x01'), (1, 1, 1, 'thorough', 'queued', '\\x01'), (1, 1, 1, 'thorough', 'done', '\\x01'),
        (1, 1, 2, 'file-record', 'paused', '\\x01'), (1, 1, 2, 'thorough', 'paused', '\\x01'), (1, 1, 2, 'thorough', 'queued', null);`);
    for (const [index, [store, size]] of (
      [
        [2, 0],
        [3, 0],
        [3, 9],
      ] as const
    ).entries()) {
      await client.query(
        `insert into copies (job_id, pass_id, store_id, item_id, folder_id, place, state, type, reference, name, name_raw, size, condition, survival, evidence, notes)
         values (1, 3, $1, $2::int, 1, 'backup', 'live', 'file', $2::text, $2::text, '', $3, 'whole', 1, '{}', '[]')`,
        [store, index + 1, size],
      );
      await client.query(
        `insert into items (job_id, folder_id, key, name, kind, copies, lost, places, stores, best_copy_id, size, condition, survival, live)
         values (1, 1, $1::text, $1::text, 'other', 1, false, '{backup}', '{1}', $1::int, $2, 'whole', 1, true)`,
        [index + 1, size],
      );
    }
    await client.end();
    await migrateDatabase(url);
    const { pool } = open(url);
    const { rows } = await pool.query("select state, resume is null as anew from passes order by id");
    expect(rows.map(({ state, anew }) => [state, anew])).toEqual([
      ["stopped", true],
      ["stopped", true],
      ["done", false],
      ["paused", false],
      ["stopped", true],
      ["queued", true],
    ]);
    const { rows: shown } = await pool.query(
      "select c.condition, i.condition as shown, jsonb_array_length(c.notes) as notes from copies c join items i on i.best_copy_id = c.id order by c.id",
    );
    // Without the list nothing said that a file of no bytes is one.
    expect(shown.map(({ condition, shown: item, notes }) => [condition, item, notes])).toEqual([
      ["whole", "whole", 0],
      ["not-checked", "not-checked", 1],
      ["whole", "whole", 0],
    ]);
    await pool.end();
  });

  it("no longer calls whole what need not be, and says of the rest on what it rests", async () => {
    const { url, client } = await databaseBefore(43);
    await client.query(`
      insert into jobs (title) values ('Old one');
      insert into sources (job_id, path, name, size, container, table_kind, notes) values (1, '/s/disk.img', 'disk.img', 1000000, 'raw', 'mbr', '[]');
      insert into homes (job_id, label) values (1, 'Disk');
      insert into stores (source_id, number, offset_bytes, length_bytes, filesystem, label, readable, notes) values
        (1, 0, 65536, 500000, 'fat32', 'Stick', true, '[]'), (1, 1, 600000, 300000, 'ntfs', null, true, '[]');
      insert into stores (source_id, number, offset_bytes, length_bytes, filesystem, label, readable, notes, standing) values
        (1, 2, 65536, 500000, 'exfat', null, true, '[]', 'earlier');
      insert into passes (job_id, source_id, store_id, place, state) values (1, 1, 1, 'file-record', 'done');
      insert into folders (job_id, home_id, path, folded) values
        (1, 1, '/Docs', gen_random_uuid()), (1, 1, '/?', gen_random_uuid()), (1, 1, '/?/lost', gen_random_uuid());`);
    const old = [
      { name: "empty", store: 1, folder: 1, size: 0, content: null },
      { name: "of a known folder", store: 2, folder: 1, size: 9, content: { finding: "unknown" } },
      { name: "of an unknown folder", store: 2, folder: 3, size: 9, content: { finding: "agrees", checked: false } },
      { name: "proven", store: 2, folder: 2, size: 9, content: { finding: "agrees", checked: true } },
      { name: "held in its record", store: 2, folder: 2, size: 9, content: null },
      { name: "under a later volume", store: 3, folder: 1, size: 9, content: null, state: "live" },
    ];
    for (const [index, { name, store, folder, size, content, state = "deleted" }] of old.entries()) {
      const evidence = JSON.stringify({ usedByOthers: 0, takenLater: 0, lost: 0, unreadable: 0, content });
      await client.query(
        `insert into copies (job_id, pass_id, store_id, item_id, folder_id, place, state, type, reference, name, name_raw, size, condition, survival, evidence, notes)
         values (1, 1, $1, $2, $3, 'file-record', $7, 'file', $4, $4, '', $5, 'whole', 1, $6, '["Known before."]')`,
        [store, index + 1, folder, name, size, evidence, state],
      );
      await client.query(
        `insert into items (job_id, folder_id, key, name, kind, copies, lost, places, stores, best_copy_id, size, condition, survival, live)
         values (1, $1, $2, $2, 'other', 1, $5, '{file-record}', '{1}', $3, $4, 'whole', 1, not $5)`,
        [folder, name, index + 1, size, state === "deleted"],
      );
    }
    await client.end();
    await migrateDatabase(url);
    const { pool } = open(url);
    const { rows } = await pool.query(
      "select c.name, c.condition, i.condition as shown, c.absent, c.notes, i.live, i.lost from copies c join items i on i.best_copy_id = c.id order by c.id",
    );
    expect(rows.map(({ name, condition, shown, absent }) => [name, condition, shown, absent])).toEqual([
      ["empty", "name-only", "name-only", "record-damaged"],
      ["of a known folder", "whole", "whole", null],
      ["of an unknown folder", "not-checked", "not-checked", null],
      ["proven", "whole", "whole", null],
      ["held in its record", "whole", "whole", null],
      ["under a later volume", "not-checked", "not-checked", null],
    ]);
    expect(rows.every(({ live, lost }) => !live && lost)).toBe(true);
    const added = (index: number) => (rows as { notes: string[] }[])[index]?.notes.slice(1);
    expect(added(0)).toEqual([EMPTIED.kind === "absent" ? EMPTIED.note : ""]);
    expect(added(1)).toEqual([RESTS_ON_RECORDS]);
    expect([added(2), added(3), added(4)]).toEqual([[], [], []]);
    await pool.end();
  });

  it("has its statistics taken by the database itself, which does so without a search path", async () => {
    const url = await emptyDatabase();
    await migrateDatabase(url);
    const client = new pg.Client({ connectionString: url });
    await client.connect();
    // Only what is analysed is here, without the rows it belongs to.
    await client.query("set session_replication_role = replica");
    await client.query(
      "insert into folders (job_id, home_id, path, folded) select 1, 1, '/Müller ' || n, gen_random_uuid() from generate_series(1, 40) n",
    );
    // PostgreSQL, "Routine Vacuuming" and "CREATE INDEX": its own workers analyse with a safe search path, and call what an index is made of.
    await client.query("set search_path = pg_catalog, pg_temp");
    await client.query("analyze public.folders");
    const { rows } = await client.query("select count(*)::int as count from pg_stats where tablename = 'folders_path_words'");
    expect(rows).toEqual([{ count: 1 }]);
    await client.end();
  });
});

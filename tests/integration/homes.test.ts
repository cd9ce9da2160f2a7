import { mkdirSync, utimesSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { changeHomes } from "../../server/homes/commands";
import { listHomes } from "../../server/homes/queries";
import { chooseCopy } from "../../server/items/commands";
import { type Item, itemQuery } from "../../server/items/contract";
import { countFacets } from "../../server/items/facets";
import { listItems } from "../../server/items/list";
import { findItem } from "../../server/items/queries";
import { createJob } from "../../server/jobs/commands";
import { startPass } from "../../server/passes/commands";
import { listPasses } from "../../server/passes/queries";
import { thumbnail } from "../../server/previews/pictures";
import { startRestore } from "../../server/restores/commands";
import { addSource, removeSource } from "../../server/sources/commands";
import { listSources } from "../../server/sources/queries";
import { changeTray } from "../../server/tray/commands";
import { startTestBench, type TestBench, until } from "../support/bench";
import { macBytes } from "../support/mac-truth";
import { endedRestore, planTo } from "../support/restores";
import { systemAndData } from "../support/system-and-data";
import { fixture } from "../support/volume-truth";

let bench: TestBench;
beforeAll(async () => {
  bench = await startTestBench();
  bench.worker();
}, 60_000);
afterAll(() => bench.close());

let made = 0;
/** A job whose only sources are these: folders with files (path → content), or images. All of their volumes are read. */
async function jobOf(...sources: (Record<string, string> | Uint8Array)[]): Promise<{ job: number; stores: number[] }> {
  const job = await createJob(bench.db, { title: "Homes", client: "" });
  const stores: number[] = [];
  for (const source of sources) stores.push(...(await add(job, source)));
  return { job, stores };
}

async function add(job: number, source: Record<string, string> | Uint8Array): Promise<number[]> {
  made += 1;
  const path = join(bench.sources, `source ${made}`);
  if (source instanceof Uint8Array) writeFileSync(path, source);
  else
    for (const [file, content] of Object.entries(source)) {
      mkdirSync(join(path, file, ".."), { recursive: true });
      writeFileSync(join(path, file), content);
      // Backups are older than what they were made of.
      if (file.startsWith("Backup")) utimesSync(join(path, file), 1_600_000_000, 1_600_000_000);
    }
  const id = await addSource(bench.db, job, path);
  const found = (await listSources(bench.db, job)).find((each) => each.id === id)?.volumes.filter(({ readable }) => readable) ?? [];
  for (const { id: store } of found) await startPass(bench.db, job, store);
  await until(async () => (await listPasses(bench.db, job)).every(({ state }) => state === "done"));
  return found.map(({ id: store }) => store);
}

const all = async (job: number, query: Record<string, unknown> = {}) =>
  (await listItems(bench.db, job, itemQuery.parse({ show: "all", limit: 1000, ...query }))).items;
const pathOf = ({ folder, name }: Item) => `${folder}/${name}`;
/** Items as the client knew them, each with its copies, in an order of their own. */
async function gathered(job: number): Promise<string[]> {
  const { rows } = await bench.pool.query<{ said: string }>(
    `select h.label || ' ' || f.path || '/' || i.name || ' ' || i.copies || ' ' || i.lost || ' ' || i.size || ' ' || array_to_string(i.places, ',') || ' ' || i.condition
       || ' ' || (select string_agg(c.store_id || ':' || c.reference || ':' || cf.path || '/' || c.name, ',' order by c.id)
                  from copies c join folders cf on cf.id = c.folder_id where c.item_id = i.id) as said
     from items i join folders f on f.id = i.folder_id join homes h on h.id = f.home_id where i.job_id = $1`,
    [job],
  );
  return rows.map(({ said }) => said).sort();
}
/** What must hold after every change: each copy of a file is in an item, no item is empty, and what items say of their copies is so. */
async function expectSound(job: number): Promise<void> {
  const { rows } = await bench.pool.query(
    `select (select count(*) from copies c where c.job_id = $1 and c.item_id is not null and not exists (select 1 from items i where i.id = c.item_id))::int as orphans,
       (select count(*) from items i where i.job_id = $1 and i.copies <> (select count(*) from copies c where c.item_id = i.id))::int as miscounted,
       (select count(*) from items i where i.job_id = $1 and not exists (select 1 from copies c where c.id = i.best_copy_id and c.item_id = i.id))::int as headless,
       (select count(*) from items i where i.job_id = $1 and i.stores <> (select array_agg(distinct c.store_id) from copies c where c.item_id = i.id))::int as misplaced,
       (select count(*) from copies c where c.job_id = $1 and not exists (select 1 from folders f where f.id = c.folder_id))::int as "withoutFolder",
       (select count(*) from tray_entries t where t.job_id = $1 and not exists (select 1 from items i where i.id = t.item_id))::int as "trayOfNothing"`,
    [job],
  );
  expect(rows[0]).toEqual({ orphans: 0, miscounted: 0, headless: 0, misplaced: 0, withoutFolder: 0, trayOfNothing: 0 });
}

const LAPTOP = {
  "Users/anna/Documents/Letter.txt": "the letter as it is on the laptop",
  "Users/anna/Documents/Budget/2025.csv": "1;2;3",
  "Users/anna/Pictures/Tree.txt": "not really a picture",
  "Users/anna/Desktop/note.txt": "buy tea",
};
const BACKUP = {
  "Backup of anna/C/Users/anna/Documents/letter.TXT": "the letter as it was",
  "Backup of anna/C/Users/anna/Documents/Budget/2024.csv": "1;2",
  "Backup of anna/C/Users/anna/Music/Song.txt": "la la",
  "Other things/readme.txt": "about this disk",
};

describe("volumes that are the same drive", () => {
  it("by serial number and label share a home from the beginning, and their copies gather", async () => {
    const image = fixture("ntfs-4kn.img.gz");
    const { job, stores } = await jobOf(image);
    const alone = await all(job);
    stores.push(...(await add(job, image)));
    const both = await all(job);
    expect(both.filter(({ folder }) => !folder.startsWith("/?")).map(pathOf)).toEqual(
      alone.filter(({ folder }) => !folder.startsWith("/?")).map(pathOf),
    );
    expect(both.filter(({ folder }) => !folder.startsWith("/?")).map(({ copies }) => copies)).toEqual(
      alone.filter(({ folder }) => !folder.startsWith("/?")).map(({ copies }) => copies * 2),
    );
    const { homes } = await listHomes(bench.db, job);
    expect(homes).toHaveLength(1);
    expect(homes[0]?.stores.map(({ storeId, reason }) => [storeId, reason])).toEqual([
      [stores[0], null],
      [stores[1], expect.stringMatching(/serial number and label of the volume in “source \d+”/)],
    ]);
    await expectSound(job);
  });

  it("part by hand and join again, at any time, and nothing is lost on the way", async () => {
    const image = fixture("ntfs-4kn.img.gz");
    const { job, stores } = await jobOf(image, image);
    const [first, second] = stores as [number, number];
    const before = await gathered(job);
    const total = (await all(job)).length;
    await changeHomes(bench.db, job, { part: second, below: "" });
    await expectSound(job);
    const { homes: parted } = await listHomes(bench.db, job);
    expect(parted.map(({ stores: shown }) => shown.map(({ storeId }) => storeId))).toEqual([[first], [second]]);
    expect(parted[0]?.items).toBe(parted[1]?.items);
    const lost = (await all(job)).filter(({ folder }) => folder.startsWith("/?")).length;
    expect((await all(job)).length).toBe(2 * total - lost);
    expect((await all(job, { volume: second })).every(({ copies }) => copies >= 1)).toBe(true);
    const facets = await countFacets(bench.db, job, itemQuery.parse({ show: "all" }));
    expect(facets.home.map(({ value }) => Number(value)).sort()).toEqual(parted.map(({ id }) => id).sort());
    await changeHomes(bench.db, job, { join: parted[1]?.id as number, into: parted[0]?.id as number });
    await expectSound(job);
    expect(await gathered(job)).toEqual(before);
  });
});

describe("volumes that say that they make up one drive", () => {
  it("are one home under the system's name, in which each file stands once; an image taken later joins it", async () => {
    const { job, stores } = await jobOf(systemAndData());
    expect(stores).toHaveLength(2);
    const { homes } = await listHomes(bench.db, job);
    expect(homes.map(({ label }) => label)).toEqual(["Alpha"]);
    expect(homes[0]?.stores.map(({ storeId, at, reason }) => [storeId, at, reason])).toEqual([
      [stores[0], "", null],
      [stores[1], "", expect.stringMatching(/“Alpha” in “source \d+” say that they make up one drive: the system, and the data/)],
    ]);
    const known = await all(job);
    const tops = new Set(known.map((item) => pathOf(item).split("/")[1]));
    expect(tops).toContain("Alpha docs");
    expect(tops).toContain("Beta");
    const later = await add(job, systemAndData());
    const after = await listHomes(bench.db, job);
    expect(after.homes).toHaveLength(1);
    expect(after.homes[0]?.stores.filter(({ storeId }) => later.includes(storeId)).map(({ reason }) => reason)).toEqual([
      expect.stringContaining("has the identifier of the volume in"),
      expect.stringContaining("has the identifier of the volume in"),
    ]);
    const placed = (items: readonly Item[]) => items.filter(({ folder }) => !folder.startsWith("/?")).map(pathOf);
    expect(placed(await all(job))).toEqual(placed(known));
    await expectSound(job);
  });

  it("are two homes where they say nothing of each other, or of different drives", async () => {
    const { job } = await jobOf(macBytes("apfs-twovol"));
    expect((await listHomes(bench.db, job)).homes.map(({ label }) => label)).toEqual(["Alpha", "Beta"]);
  });
});

describe("a backup that has the client's folders below one of its own", () => {
  it("is suggested with the reason, and gathers with the drive when its folder is said to be the drive", async () => {
    const { job, stores } = await jobOf(LAPTOP, BACKUP);
    const [laptop, backup] = stores as [number, number];
    const before = await gathered(job);
    const { homes, suggestions } = await listHomes(bench.db, job);
    const home = homes.find((each) => each.stores.some(({ storeId }) => storeId === laptop))?.id as number;
    expect(suggestions).toEqual([
      expect.objectContaining({
        storeId: backup,
        below: "/Backup of anna/C",
        homeId: home,
        reason: expect.stringContaining("folders of anna, who is on"),
      }),
    ]);
    await changeHomes(bench.db, job, { store: backup, below: "/Backup of anna/C", home, at: "" });
    await expectSound(job);
    const letter = (await all(job)).find(({ name }) => name.toLowerCase() === "letter.txt") as Item;
    expect(pathOf(letter)).toBe("/Users/anna/Documents/Letter.txt");
    expect(letter.copies).toBe(2);
    expect((await findItem(bench.db, letter.id))?.list.map(({ file }) => file).sort()).toEqual([
      "Backup of anna/C/Users/anna/Documents/letter.TXT",
      "Users/anna/Documents/Letter.txt",
    ]);
    expect((await all(job, { home })).map(pathOf).sort()).toEqual([
      "/Users/anna/Desktop/note.txt",
      "/Users/anna/Documents/Budget/2024.csv",
      "/Users/anna/Documents/Budget/2025.csv",
      "/Users/anna/Documents/Letter.txt",
      "/Users/anna/Music/Song.txt",
      "/Users/anna/Pictures/Tree.txt",
    ]);
    expect((await listHomes(bench.db, job)).suggestions).toEqual([]);
    await changeHomes(bench.db, job, { part: backup, below: "/Backup of anna/C" });
    await expectSound(job);
    expect(await gathered(job)).toEqual(before);
  });

  it("gathers what is found in it later at once", async () => {
    const { job } = await jobOf(LAPTOP);
    const { homes } = await listHomes(bench.db, job);
    const home = homes[0]?.id as number;
    const path = join(bench.sources, "later");
    for (const [file, content] of Object.entries(BACKUP)) {
      mkdirSync(join(path, file, ".."), { recursive: true });
      writeFileSync(join(path, file), content);
    }
    await addSource(bench.db, job, path);
    const store = (await listSources(bench.db, job)).find((each) => each.path === path)?.volumes[0]?.id as number;
    await changeHomes(bench.db, job, { store, below: "/Backup of anna/C", home, at: "" });
    await startPass(bench.db, job, store);
    await until(async () => (await listPasses(bench.db, job)).every(({ state }) => state === "done"));
    expect((await all(job)).find(({ name }) => name === "Letter.txt")?.copies).toBe(2);
    await expectSound(job);
  });

  it("cannot show one folder of a drive twice, and no drive or store of another job", async () => {
    const { job, stores } = await jobOf(LAPTOP, BACKUP);
    const other = await jobOf({ "a.txt": "a" });
    const { homes } = await listHomes(bench.db, job);
    const [laptop, backup] = stores as [number, number];
    const home = homes[0]?.id as number;
    await changeHomes(bench.db, job, { store: backup, below: "/Backup of anna/C", home, at: "" });
    await expect(changeHomes(bench.db, job, { store: backup, below: "/Other things", home, at: "/Users" })).rejects.toThrow("only once");
    await expect(changeHomes(bench.db, job, { store: other.stores[0] as number, below: "", home, at: "" })).rejects.toThrow(
      "no such store",
    );
    await expect(changeHomes(bench.db, other.job, { rename: home, label: "x" })).rejects.toThrow("no such drive");
    await expect(changeHomes(bench.db, job, { part: laptop, below: "/Nowhere" })).rejects.toThrow("no drive of its own");
    await expect(changeHomes(bench.db, job, { join: home, into: home })).rejects.toThrow("another drive");
    await expectSound(job);
  });
});

describe("what was chosen and restored", () => {
  it("stays so when drives are joined and parted", async () => {
    const { job, stores } = await jobOf(LAPTOP, BACKUP);
    const [laptop, backup] = stores as [number, number];
    const of = async (name: string) => (await all(job)).filter((each) => each.name.toLowerCase() === name);
    const home = (await listHomes(bench.db, job)).homes[0]?.id as number;
    const [song] = await of("song.txt");
    const older = (await of("letter.txt")).find(({ folder }) => folder.startsWith("/Backup")) as Item;
    await changeTray(bench.db, job, { items: [song?.id as number], chosen: true });
    const restore = await startRestore(bench.db, job, planTo("Songs"));
    const { results } = await endedRestore(bench.db, job, restore);
    expect(results.map(({ state }) => state)).toEqual(["verified"]);
    await changeTray(bench.db, job, { items: [older.id], chosen: true });
    await changeHomes(bench.db, job, { store: backup, below: "/Backup of anna/C", home, at: "" });
    const [letter] = await of("letter.txt");
    // The copy that was in the tray is there still, and no other one.
    expect((await findItem(bench.db, letter?.id as number))?.list.filter(({ inTray }) => inTray).map(({ file }) => file)).toEqual([
      "Backup of anna/C/Users/anna/Documents/letter.TXT",
    ]);
    const live = (await findItem(bench.db, letter?.id as number))?.list.find(({ file }) => file === "Users/anna/Documents/Letter.txt");
    await chooseCopy(bench.db, letter?.id as number, live?.id as number);
    await changeHomes(bench.db, job, { part: backup, below: "/Backup of anna/C" });
    await expectSound(job);
    const parted = await of("letter.txt");
    expect(parted.map(({ folder, inTray }) => [folder, inTray]).sort()).toEqual([
      ["/Backup of anna/C/Users/anna/Documents", true],
      ["/Users/anna/Documents", false],
    ]);
    const { rows } = await bench.pool.query("select r.item_id from restore_results r where r.restore_id = $1", [restore]);
    expect(rows.map(({ item_id }) => Number(item_id))).toEqual([(await of("song.txt"))[0]?.id]);
    await removeSource(
      bench.db,
      job,
      (await listSources(bench.db, job)).find(({ volumes }) => volumes[0]?.id === laptop)?.id as number,
      true,
    );
    await expectSound(job);
    expect((await all(job)).map(pathOf).sort()).toEqual(
      Object.keys(BACKUP)
        .map((path) => `/${path}`)
        .sort(),
    );
  });

  it("with the small pictures of its copies, which are drawn once, and go with their source", async () => {
    const { job } = await jobOf(LAPTOP);
    const [item] = await all(job);
    const copyId = item?.bestCopyId as number;
    let drawn = 0;
    const draw = async () => Buffer.from(`picture ${++drawn}`);
    for (let round = 0; round < 2; round += 1) expect(Buffer.from(await thumbnail(bench.db, copyId, draw)).toString()).toBe("picture 1");
    const [source] = await listSources(bench.db, job);
    await removeSource(bench.db, job, source?.id as number, true);
    const { rows } = await bench.pool.query("select 1 from thumbnails where copy_id = $1", [copyId]);
    expect([rows.length, drawn]).toEqual([0, 1]);
  });

  it("goes with a drive that is shown by another source too, when one of them is taken out", async () => {
    const { job, stores } = await jobOf(LAPTOP, BACKUP);
    const home = (await listHomes(bench.db, job)).homes[0]?.id as number;
    await changeHomes(bench.db, job, { store: stores[1] as number, below: "/Backup of anna/C", home, at: "" });
    const [laptop] = await listSources(bench.db, job);
    await removeSource(bench.db, job, laptop?.id as number, true);
    await expectSound(job);
    expect((await all(job, { home })).map(pathOf).sort()).toEqual([
      "/Users/anna/Documents/Budget/2024.csv",
      "/Users/anna/Documents/Letter.txt",
      "/Users/anna/Music/Song.txt",
    ]);
  });
});

describe("capitals", () => {
  it("make no difference on a home that folds them, and do on one that does not, whichever the stores are", async () => {
    const { job, stores } = await jobOf(
      { "Docs/A.txt": "1", "Docs/b.txt": "2" },
      { "docs/a.TXT": "3", "docs/B.txt": "4", "DOCS/b.txt": "5" },
    );
    const [first, second] = stores as [number, number];
    const { homes } = await listHomes(bench.db, job);
    const [folding, other] = homes.map(({ id }) => id) as [number, number];
    const before = await gathered(job);
    await changeHomes(bench.db, job, { store: second, below: "", home: folding, at: "" });
    await expectSound(job);
    const { rows: folded } = await bench.pool.query("select count(*)::int as n from items where job_id = $1", [job]);
    // Two files of one folder source that differ in capitals alone stay two.
    expect(folded[0].n).toBe(3);
    await changeHomes(bench.db, job, { part: second, below: "" });
    expect((await gathered(job)).length).toBe(before.length);
    await bench.pool.query("update homes set case_sensitive = true where id = (select home_id from home_paths where store_id = $1)", [
      first,
    ]);
    await bench.pool.query(
      "update folders f set folded = folded_path(path, true) from home_paths p where p.store_id = $1 and f.home_id = p.home_id",
      [first],
    );
    await bench.pool.query(
      "update items i set key = normalize(name) from folders f join home_paths p on p.home_id = f.home_id where f.id = i.folder_id and p.store_id = $1",
      [first],
    );
    const exact = (await listHomes(bench.db, job)).homes.find((each) => each.stores[0]?.storeId === first)?.id as number;
    await changeHomes(bench.db, job, { store: second, below: "", home: exact, at: "" });
    await expectSound(job);
    expect((await all(job)).map(pathOf).sort()).toEqual(["/DOCS/b.txt", "/Docs/A.txt", "/Docs/b.txt", "/docs/B.txt", "/docs/a.TXT"]);
    expect(other).not.toBe(folding);
  });
});

describe("drives joined while a pass is storing", () => {
  it("lose nothing: each batch goes where its store stands in that moment", async () => {
    const many = Object.fromEntries(Array.from({ length: 6000 }, (_, n) => [`Users/anna/Box ${n % 50}/File ${n}.txt`, `${n}`]));
    const { job, stores } = await jobOf(many);
    const home = (await listHomes(bench.db, job)).homes[0]?.id as number;
    const path = join(bench.sources, "meanwhile");
    for (const [file, content] of Object.entries(many)) {
      mkdirSync(join(path, "Copy", file, ".."), { recursive: true });
      writeFileSync(join(path, "Copy", file), content);
    }
    await addSource(bench.db, job, path);
    const store = (await listSources(bench.db, job)).find((each) => each.path === path)?.volumes[0]?.id as number;
    await startPass(bench.db, job, store);
    const done = async () => (await listPasses(bench.db, job)).every(({ state }) => state === "done");
    for (let joined = false; ; joined = !joined) {
      const over = await done();
      if (over && joined) break;
      await changeHomes(bench.db, job, joined ? { part: store, below: "/Copy" } : { store, below: "/Copy", home, at: "" });
    }
    await expectSound(job);
    const { rows } = await bench.pool.query(
      "select count(*)::int as items, min(copies) as least, max(copies) as most from items where job_id = $1",
      [job],
    );
    expect(rows[0]).toEqual({ items: 6000, least: 2, most: 2 });
    expect(stores).toHaveLength(1);
  }, 60_000);
});

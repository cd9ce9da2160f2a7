import { mkdirSync, rmdirSync } from "node:fs";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { migrateDatabase } from "../../server/database/migrate";
import { type Item, itemFilter, itemQuery, PAGE, SORTS } from "../../server/items/contract";
import { countFacets } from "../../server/items/facets";
import { listItems, spineOf } from "../../server/items/list";
import { findItem } from "../../server/items/queries";
import { addFolder, addSource, removeFolder } from "../../server/sources/commands";
import { listFolders, listSources } from "../../server/sources/queries";
import { browse } from "../../server/sources/source-folders";
import { usedRuns } from "../../server/sources/used-runs";
import { changeTray } from "../../server/tray/commands";
import { findTray } from "../../server/tray/queries";
import { gatherEqual } from "../../worker/gather-equal";
import { allItems } from "../support/all-items";
import { searchedJob, startTestBench, type TestBench } from "../support/bench";
import { pathOf, readTruth } from "../support/volume-truth";

let bench: TestBench;
let jobId: number;

beforeAll(async () => {
  bench = await startTestBench();
  jobId = await searchedJob(bench, "ntfs-gpt");
});
afterAll(() => bench.close());

const everything = (query: Record<string, unknown>) => allItems(bench.db, jobId, query);

describe("items", () => {
  const truth = readTruth("ntfs-gpt").entries.filter((entry) => entry.type === "file" && entry.state === "live");

  it("come page after page, each once, every live file of the manifest among them", async () => {
    const items = await everything({ show: "all" });
    const paths = items.map((item) => `${item.folder}/${item.name}`.normalize("NFC"));
    expect(new Set(items.map((item) => item.id)).size).toBe(items.length);
    const known = new Set(paths);
    // The bin's own records are none of the client's files.
    const own = /^\/\$Recycle\.Bin\/[^/]+\/(\$I[^/]*|desktop\.ini)$/;
    expect(truth.map(pathOf).filter((path) => !known.has(path) && !own.test(path))).toEqual([]);
    expect(paths.filter((path) => own.test(path))).toEqual([]);
    const { total, kind, condition, place, year, size } = await countFacets(bench.db, jobId, itemFilter.parse({ show: "all" }));
    expect(total).toBe(items.length);
    for (const facet of [kind, condition, place, year, size]) expect(facet.reduce((sum, each) => sum + each.count, 0)).toBe(items.length);
  });

  it("are found by words of name and folder, by phrase, and by nothing that only looks like a pattern", async () => {
    const all = await everything({ show: "all" });
    const text = (item: Item) => `${item.folder}/${item.name}`.toLowerCase();
    const sample = all.find((item) => / /.test(item.name)) as Item;
    const words = sample.name.toLowerCase().split(/\s+/).slice(0, 2);
    const byWords = await everything({ show: "all", q: words.join(" ") });
    expect(byWords.map((item) => item.id).sort()).toEqual(
      all
        .filter((item) => words.every((word) => text(item).includes(word)))
        .map((item) => item.id)
        .sort(),
    );
    const phrase = await everything({ show: "all", q: `"${sample.name}"` });
    expect(phrase.map((item) => item.id)).toContain(sample.id);
    expect(phrase.every((item) => text(item).includes(sample.name.toLowerCase()))).toBe(true);
    const percent = await everything({ show: "all", q: "%%%" });
    expect(percent.every((item) => text(item).includes("%%%"))).toBe(true);
  });

  it("show lost ones only unless asked for all, and give their copies with the evidence", async () => {
    const lost = await everything({});
    expect(lost.length).toBeGreaterThan(100);
    expect(lost.every((item) => item.lost)).toBe(true);
    const detail = await findItem(bench.db, lost[0]?.id as number);
    expect(detail?.list[0]?.best).toBe(true);
    expect(detail?.list.every((copy) => copy.runs.length > 0 || copy.size === 0 || copy.condition === "name-only")).toBe(true);
  });

  it("can be put into the tray and taken out", async () => {
    const chosen = (await everything({})).slice(0, 5);
    await changeTray(bench.db, jobId, { items: [...chosen.map((item) => item.id), 999_999_999], chosen: true });
    const tray = await findTray(bench.db, jobId);
    expect([tray.count, tray.bytes]).toEqual([5, chosen.reduce((sum, item) => sum + item.size, 0)]);
    await changeTray(bench.db, jobId, { items: [chosen[0]?.id as number], chosen: false });
    expect((await findTray(bench.db, jobId)).count).toBe(4);
  });

  it("can be put into the tray by a range of the list and by all that match, and all taken out", async () => {
    const matching = itemQuery.parse({ sort: "size", order: "down" });
    const list = await everything({ sort: "size", order: "down" });
    await changeTray(bench.db, jobId, { everything: true, chosen: false });
    await changeTray(bench.db, jobId, { matching, between: [list[20]?.id as number, list[11]?.id as number], chosen: true });
    const again = await everything({ sort: "size", order: "down" });
    expect(again.flatMap((item, index) => (item.inTray ? [index] : []))).toEqual([11, 12, 13, 14, 15, 16, 17, 18, 19, 20]);
    await changeTray(bench.db, jobId, { matching: itemQuery.parse({ kind: "pictures" }), chosen: true });
    const { rows } = await bench.pool.query(
      "select 1 from tray_entries t join items i on i.id = t.item_id where i.kind = 'pictures' and i.lost",
    );
    expect(rows.length).toBe(list.filter((item) => item.kind === "pictures").length);
    await changeTray(bench.db, jobId, { everything: true, chosen: false });
    expect((await findTray(bench.db, jobId)).count).toBe(0);
  });

  it.each(SORTS)("come in the order of %s, up and down, and the spine leads to the beginning of each page", async (sort) => {
    const up = await everything({ show: "all", sort });
    const down = await everything({ show: "all", sort, order: "down" });
    expect(down.map((item) => item.id)).toEqual(up.map((item) => item.id).reverse());
    const { count, starts } = await spineOf(bench.db, jobId, itemQuery.parse({ show: "all", sort }));
    expect(count).toBe(up.length);
    expect(starts.length).toBe(Math.floor((up.length - 1) / PAGE));
    for (const [index, after] of starts.entries()) {
      const page = await listItems(bench.db, jobId, itemQuery.parse({ show: "all", sort, after, limit: 3 }));
      expect(page.items[0]?.id).toBe(up[(index + 1) * PAGE]?.id);
    }
  });

  it.each(["kind", "condition", "place", "year", "size"] as const)("are narrowed by %s to as many as it says", async (name) => {
    const facets = await countFacets(bench.db, jobId, itemFilter.parse({ show: "all" }));
    expect(facets[name].length).toBeGreaterThan(0);
    for (const { value, count } of facets[name].slice(0, 4)) {
      expect((await spineOf(bench.db, jobId, itemQuery.parse({ show: "all", [name]: value }))).count, value).toBe(count);
      // A chosen one still shows the others.
      expect((await countFacets(bench.db, jobId, itemFilter.parse({ show: "all", [name]: value })))[name]).toEqual(facets[name]);
    }
  });

  it("are narrowed by folder, level by level", async () => {
    const top = (await countFacets(bench.db, jobId, itemFilter.parse({ show: "all" }))).folder[0];
    const below = await everything({ show: "all", folder: `/${top?.value}` });
    expect(below.length).toBe(top?.count);
    expect(below.every((item) => item.folder.split("/")[1] === top?.value)).toBe(true);
  });
});

describe("copies whose folder is not known", () => {
  it("are gathered under the item that holds the same bytes, and stay chosen", async () => {
    const known = (await everything({ show: "all" })).find((item) => item.condition === "whole" && item.size > 2000) as Item;
    // The same content once more, and another of the same size with one byte's worth of other content, both without a folder.
    const { rows } = await bench.pool.query<{ id: string }>(
      `with f as (insert into folders (job_id, home_id, path, folded) select i.job_id, f.home_id, '/?/lost', folded_path('/?/lost', false)
         from items i join folders f on f.id = i.folder_id where i.id = $1 returning id, job_id),
       c as (insert into copies (job_id, pass_id, store_id, folder_id, place, state, type, reference, name, name_raw, size, condition, survival, evidence, layout, first_at, notes)
         select f.job_id, 0, c.store_id, f.id, 'leftover-record', 'deleted', 'file', 'record ' || n, 'found ' || n, '', c.size, 'whole', 1, c.evidence,
           case n when 1 then c.layout else (select o.layout from copies o where o.job_id = c.job_id and o.size > c.size and length(o.layout) = length(c.layout) limit 1) end,
           c.first_at, '[]'
         from items i join copies c on c.id = i.best_copy_id, f, generate_series(1, 2) n where i.id = $1 returning id, job_id, store_id, folder_id, name, size)
       insert into items (job_id, stores, folder_id, key, name, kind, lost, places, best_copy_id, size, condition, survival)
       select job_id, array[store_id], folder_id, name, name, 'other', true, array['leftover-record'], id, size, 'whole', 1 from c order by name returning id`,
      [known.id],
    );
    const [same, other] = rows.map((row) => Number(row.id)) as [number, number];
    await bench.pool.query("update copies set item_id = i.id from items i where i.best_copy_id = copies.id and i.id = any($1)", [
      [same, other],
    ]);
    await changeTray(bench.db, jobId, { items: [same], chosen: true });
    await gatherEqual(bench.db, jobId, 0, () => false);
    const detail = await findItem(bench.db, known.id);
    expect(detail?.list.map((copy) => copy.reference)).toContain("record 1");
    expect(detail?.list.map((copy) => copy.reference)).not.toContain("record 2");
    expect(detail).toMatchObject({ inTray: true, copies: detail?.list.length });
    expect(await findItem(bench.db, same)).toBeNull();
    expect(await findItem(bench.db, other)).not.toBeNull();
    await changeTray(bench.db, jobId, { everything: true, chosen: false });
  });
});

describe("the chart's single stretches", () => {
  it("are those of the volume's own map, cut to the part asked for", async () => {
    const [source] = await listSources(bench.db, jobId);
    const volume = source?.volumes.find((each) => each.filesystem === "ntfs");
    const end = (volume?.offset ?? 0) + (volume?.length ?? 0);
    const runs = (await usedRuns(bench.db, jobId, source?.id as number, volume?.offset as number, end)) as number[];
    const lengths = runs.filter((_, index) => index % 2 === 1).reduce((sum, length) => sum + length, 0);
    expect(lengths).toBe(volume?.usedBytes);
    const part = (await usedRuns(
      bench.db,
      jobId,
      source?.id as number,
      volume?.offset as number,
      (volume?.offset as number) + 65_536,
    )) as number[];
    expect(part[0]).toBe(volume?.offset);
    expect((part[0] as number) + (part[1] as number)).toBeLessThanOrEqual((volume?.offset as number) + 65_536);
    await expect(usedRuns(bench.db, jobId, 999_999, 0, end)).rejects.toThrow("no such source");
  });
});

describe("the database", () => {
  it("may be brought up to date by several processes at once", async () => {
    const url = process.env.COMPASS_DATABASE_URL as string;
    await Promise.all([1, 2, 3].map(() => migrateDatabase(url)));
  });
});

describe("source folders", () => {
  it("are shown, and nothing outside them is read", async () => {
    expect(browse(null).entries.map((entry) => entry.path)).toEqual([bench.sources]);
    expect(browse(bench.sources).entries.map((entry) => entry.name)).toContain("ntfs-gpt.img");
    expect(() => browse("/etc")).toThrow("outside the source folders");
    // One is put on the list by hand: within what the settings allow, once, and only a folder.
    const inner = `${bench.sources}/on the list`;
    mkdirSync(inner);
    await addFolder(bench.db, inner);
    await addFolder(bench.db, `${inner}/../on the list`);
    expect(browse(null, await listFolders(bench.db)).entries.map((entry) => entry.path)).toEqual([bench.sources, inner]);
    expect(browse(inner, await listFolders(bench.db)).listed).toBe("by hand");
    expect(browse(bench.sources, await listFolders(bench.db)).listed).toBe("by settings");
    await expect(addFolder(bench.db, "/etc")).rejects.toThrow("outside the source folders");
    await expect(addFolder(bench.db, `${bench.sources}/ntfs-gpt.img`)).rejects.toThrow("is no folder");
    await removeFolder(bench.db, inner);
    expect(await listFolders(bench.db)).toEqual([]);
    rmdirSync(inner);
    await expect(addSource(bench.db, jobId, "/etc/hostname")).rejects.toThrow("outside the source folders");
    await expect(addSource(bench.db, jobId, `${bench.sources}/ntfs-gpt.img`)).rejects.toThrow("already part of the job");
  });
});

import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { migrateDatabase } from "../../server/database/migrate";
import { type Item, itemQuery } from "../../server/items/contract";
import { countItems, findItem, listItems } from "../../server/items/queries";
import { startPass } from "../../server/passes/commands";
import { listPasses } from "../../server/passes/queries";
import { addSource } from "../../server/sources/commands";
import { browse } from "../../server/sources/source-folders";
import { changeTray } from "../../server/tray/commands";
import { findTray } from "../../server/tray/queries";
import { jobWith, startTestBench, type TestBench, until } from "../support/bench";
import { pathOf, readTruth } from "../support/volume-truth";

let bench: TestBench;
let jobId: number;

beforeAll(async () => {
  bench = await startTestBench();
  const job = await jobWith(bench, "ntfs-gpt");
  jobId = job.jobId;
  const volume = job.source.volumes.find((each) => each.filesystem === "ntfs");
  await startPass(bench.db, jobId, volume?.id as number);
  bench.worker();
  await until(async () => (await listPasses(bench.db, jobId)).every((pass) => pass.state === "done"));
});
afterAll(() => bench.close());

/** All items a query gives, page by page. */
async function everything(query: Record<string, unknown>): Promise<Item[]> {
  const items: Item[] = [];
  for (let after: string | undefined; ; ) {
    const page = await listItems(bench.db, jobId, itemQuery.parse({ limit: 37, ...query, ...(after ? { after } : {}) }));
    items.push(...page.items);
    if (!page.next) return items;
    after = page.next;
  }
}

describe("items", () => {
  const truth = readTruth("ntfs-gpt").entries.filter((entry) => entry.type === "file" && entry.state === "live");

  it("come page after page, each once, every live file of the manifest among them", async () => {
    const items = await everything({ show: "all" });
    const paths = items.map((item) => `${item.folder}/${item.name}`.normalize("NFC"));
    expect(new Set(items.map((item) => item.id)).size).toBe(items.length);
    const known = new Set(paths);
    expect(truth.map(pathOf).filter((path) => !known.has(path))).toEqual([]);
    const { total, matching, kinds } = await countItems(bench.db, jobId, itemQuery.parse({ show: "all" }));
    expect([total, matching]).toEqual([items.length, items.length]);
    expect(kinds.reduce((sum, each) => sum + each.count, 0)).toBe(items.length);
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

  it("show lost ones only unless asked for all, and tell their copies with the evidence", async () => {
    const lost = await everything({});
    expect(lost.length).toBeGreaterThan(100);
    expect(lost.every((item) => item.lost)).toBe(true);
    const detail = await findItem(bench.db, lost[0]?.id as number);
    expect(detail?.list[0]?.best).toBe(true);
    expect(detail?.list.every((copy) => copy.runs.length > 0 || copy.size === 0 || copy.condition === "name-only")).toBe(true);
  });

  it("can be put into the tray and taken out", async () => {
    const chosen = (await everything({})).slice(0, 5);
    await changeTray(bench.db, jobId, [...chosen.map((item) => item.id), 999_999_999], true);
    const tray = await findTray(bench.db, jobId);
    expect([tray.count, tray.bytes]).toEqual([5, chosen.reduce((sum, item) => sum + item.size, 0)]);
    await changeTray(bench.db, jobId, [chosen[0]?.id as number], false);
    expect((await findTray(bench.db, jobId)).count).toBe(4);
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
    await expect(addSource(bench.db, jobId, "/etc/hostname")).rejects.toThrow("outside the source folders");
    await expect(addSource(bench.db, jobId, `${bench.sources}/ntfs-gpt.img`)).rejects.toThrow("already part of the job");
  });
});

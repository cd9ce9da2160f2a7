import { existsSync, mkdirSync, mkdtempSync, readdirSync, readFileSync, rmSync, writeFileSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { type Item, itemQuery } from "../../server/items/contract";
import { listItems } from "../../server/items/list";
import { startRestore } from "../../server/restores/commands";
import { plan, type RestorePlan } from "../../server/restores/contract";
import { archiveOf, fileOf } from "../../server/restores/downloads";
import { sumTray, trayPage } from "../../server/restores/planned";
import { listDeliveries, rehearse } from "../../server/restores/rehearsal";
import { addSource } from "../../server/sources/commands";
import { changeTray } from "../../server/tray/commands";
import { sha256 } from "../support/backup-truth";
import { searchedJob, startTestBench, type TestBench } from "../support/bench";
import { endedRestore, planTo } from "../support/restores";

let bench: TestBench;
let jobId: number;
let chosen: Item[];
const work = mkdtempSync(join(tmpdir(), "compass-places-"));
const [second, replacement, unplugged] = ["second", "replacement", "unplugged"].map((name) => join(work, name)) as [string, string, string];

beforeAll(async () => {
  for (const folder of [second, replacement]) mkdirSync(folder);
  // Workers read the settings from their environment.
  process.env.COMPASS_DELIVERY_MORE = `${second}:${unplugged}`;
  process.env.COMPASS_REPLACEMENTS = replacement;
  bench = await startTestBench();
  jobId = await searchedJob(bench, "ntfs-gpt");
  bench.worker();
  chosen = (await listItems(bench.db, jobId, itemQuery.parse({ limit: 40, condition: "whole" }))).items;
}, 120_000);
afterAll(async () => {
  delete process.env.COMPASS_DELIVERY_MORE;
  delete process.env.COMPASS_REPLACEMENTS;
  await bench.close();
});

async function begin(destination: string, facts: Partial<RestorePlan>): Promise<number> {
  await changeTray(bench.db, jobId, { everything: true, chosen: false });
  await changeTray(bench.db, jobId, { items: chosen.map(({ id }) => id), chosen: true });
  return startRestore(bench.db, jobId, planTo(destination, facts));
}
const restored = async (destination: string, facts: Partial<RestorePlan>) => endedRestore(bench.db, jobId, await begin(destination, facts));

describe("where a restore goes", () => {
  it("is one of the folders of the settings, each with its file system, its room, and why it may not be", async () => {
    const [usual, more, missing, back] = await listDeliveries(bench.db, jobId);
    expect(usual).toMatchObject({ path: bench.delivery, usual: true, replaces: false, refused: null });
    expect(more).toMatchObject({ path: second, usual: false, refused: null, device: { writable: true } });
    expect(more?.freeBytes).toBeGreaterThan(0);
    expect(missing).toMatchObject({ path: unplugged, refused: expect.stringContaining("not there: connect its drive") });
    expect(back).toMatchObject({ path: replacement, replaces: true, refused: null });
  });

  it("another device: every file lies there, is given out from there, and nothing in the usual folder", async () => {
    const done = await restored("Box", { delivery: second });
    expect(done.counts.verified).toBe(chosen.length);
    for (const { output, sha256: hash } of done.results) {
      expect(output?.startsWith(join(second, "Box/"))).toBe(true);
      expect(sha256(readFileSync(output as string))).toBe(hash);
    }
    expect(existsSync(join(bench.delivery, "Box"))).toBe(false);
    const one = await fileOf(bench.db, done.id, done.results[0]?.id as number);
    expect(sha256(Buffer.from(await one.arrayBuffer()))).toBe(done.results[0]?.sha256);
    expect((await archiveOf(bench.db, done.id, "zip")).status).toBe(200);
  });

  it("a drive that takes the lost one's place: files stand where they stood, and what was there is kept as asked", async () => {
    const [first] = chosen as [Item];
    const path = join(replacement, `${first.folder}/${first.name}`);
    mkdirSync(join(path, ".."), { recursive: true });
    writeFileSync(path, "another file of the new system");
    const done = await restored("", { delivery: replacement, conflict: "replace" });
    expect(done.counts.verified).toBe(chosen.length);
    for (const { output, path: own } of done.results) expect(output?.normalize("NFC")).toBe(join(replacement, own).normalize("NFC"));
    const aside = done.results.find((result) => result.aside)?.aside as string;
    expect(readFileSync(aside, "utf8")).toBe("another file of the new system");
  });

  it("a device that is not connected is not made, and one the settings do not name is refused", async () => {
    await expect(begin("Box", { delivery: unplugged })).rejects.toThrow("connect its drive");
    expect(existsSync(unplugged)).toBe(false);
    await expect(begin("Box", { delivery: "/etc" })).rejects.toThrow("not one of those in the settings");
    await expect(begin("Box", { delivery: replacement })).rejects.toThrow("name no folder");
    await expect(begin("", {})).rejects.toThrow("Name a folder");
    const done = await restored("../..", { delivery: second });
    for (const { output } of done.results) expect(output?.startsWith(`${second}/`)).toBe(true);
    expect(readdirSync(work).sort()).toEqual(["replacement", "second"]);
    expect(plan.safeParse({ destination: "x", delivery: "" }).success).toBe(false);
  });

  it("none of them may be a source, or lie in one", async () => {
    const other = join(bench.sources, "folder");
    mkdirSync(other, { recursive: true });
    process.env.COMPASS_DELIVERY_MORE = join(other, "out");
    mkdirSync(join(other, "out"));
    try {
      await expect(addSource(bench.db, jobId, other)).rejects.toThrow("lie in one another");
    } finally {
      process.env.COMPASS_DELIVERY_MORE = `${second}:${unplugged}`;
      rmSync(other, { recursive: true });
    }
  });
});

describe("the rehearsal", () => {
  it("counts whole blocks, and leaves out what is larger than the file system takes", async () => {
    await changeTray(bench.db, jobId, { items: chosen.map(({ id }) => id), chosen: true });
    const sizes = chosen.map(({ size }) => size);
    const block = 65_536;
    const all = await sumTray(bench.db, jobId, { block, largestFile: null });
    expect(all.bytes).toBe(sizes.reduce((sum, size) => sum + size, 0));
    expect(all.needed).toBe(sizes.reduce((sum, size) => sum + Math.ceil(size / block) * block, 0));
    const limit = [...sizes].sort((a, b) => a - b)[Math.floor(sizes.length / 2)] as number;
    const some = await sumTray(bench.db, jobId, { block: 1, largestFile: limit });
    const fitting = sizes.filter((size) => size <= limit);
    expect([some.writable, some.needed]).toEqual([fitting.length, fitting.reduce((sum, size) => sum + size, 0)]);
  });

  it("shows the part that is asked for, on as many pages as that has", async () => {
    await changeTray(bench.db, jobId, { everything: true, chosen: true });
    const sums = await rehearse(bench.db, jobId, planTo("Parts"));
    const countOf = async (part: "gaps" | "unwritable") => {
      let [count, page] = [0, 0];
      for (let pages = 1; page < pages; page += 1) {
        const found = await trayPage(bench.db, jobId, page, 7, part);
        pages = found.pages;
        count += found.rows.length;
      }
      return count;
    };
    expect(await countOf("unwritable")).toBe(sums.unwritable);
    expect(await countOf("gaps")).toBe(sums.withGaps);
    expect(sums.unwritable + sums.withGaps).toBeGreaterThan(0);
  });

  it("says what does not open, and where a better copy is known than the one that was chosen", async () => {
    // A copy of another file stands for an older, damaged one of the first.
    const [first, second, third] = chosen as [Item, Item, Item];
    await bench.pool.query("update copies set item_id = $2, condition = 'partial', survival = 0.5 where id = $1 returning id", [
      second.bestCopyId,
      first.id,
    ]);
    await bench.pool.query("update copies set evidence = evidence || $2::jsonb where id = $1", [
      third.bestCopyId,
      JSON.stringify({ content: { finding: "damaged", format: "jpeg", checked: true } }),
    ]);
    const looked = async () => {
      const { files, better, unopened } = await rehearse(bench.db, jobId, planTo("Looked at"));
      const pages = await Promise.all((["better", "unopened"] as const).map((part) => trayPage(bench.db, jobId, 0, 50, part)));
      const expected = { better: files.filter((file) => file.better), unopened: files.filter(({ opens }) => opens === "no") };
      expect([better, unopened]).toEqual([expected.better.length, expected.unopened.length]);
      expect(pages.map(({ rows }) => rows.map((row) => Number(row.copy_id)))).toEqual([
        expected.better.map(({ copyId }) => copyId),
        expected.unopened.map(({ copyId }) => copyId),
      ]);
      return {
        better: expected.better.map(({ copyId, better: than }) => [copyId, than]),
        unopened: expected.unopened.map(({ copyId }) => copyId),
      };
    };
    await changeTray(bench.db, jobId, { everything: true, chosen: false });
    await changeTray(bench.db, jobId, { copies: [second.bestCopyId, third.bestCopyId], chosen: true });
    expect(await looked()).toEqual({ better: [[second.bestCopyId, "whole"]], unopened: [third.bestCopyId] });
    // Taken instead, nothing better is known any more.
    await changeTray(bench.db, jobId, { copies: [second.bestCopyId], chosen: false });
    await changeTray(bench.db, jobId, { items: [first.id], chosen: true });
    expect((await looked()).better).toEqual([]);
  });
});

import { readFileSync } from "node:fs";
import { basename, join } from "node:path";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { type Item, itemQuery } from "../../server/items/contract";
import { listItems } from "../../server/items/list";
import { startRestore } from "../../server/restores/commands";
import { plan } from "../../server/restores/contract";
import { trayPage } from "../../server/restores/planned";
import { rehearsePage } from "../../server/restores/rehearsal";
import { changeTray } from "../../server/tray/commands";
import { sha256 } from "../support/backup-truth";
import { searchedJob, startTestBench, type TestBench, until } from "../support/bench";
import { endedRestore, planTo } from "../support/restores";

let bench: TestBench;
let jobId: number;
let chosen: Item[];

beforeAll(async () => {
  bench = await startTestBench();
  jobId = await searchedJob(bench, "ntfs-gpt");
  bench.worker();
  const { items } = await listItems(bench.db, jobId, itemQuery.parse({ limit: 60, condition: "whole" }));
  chosen = items;
  // Names go by what contents say of themselves: until that is read, a rehearsal tells of less than a restore finds.
  await until(async () => (await bench.pool.query("select 1 from graphile_worker.jobs where task_identifier = 'facts'")).rowCount === 0);
}, 120_000);
afterAll(() => bench.close());

const KIND_FOLDERS = /^(Documents|Sheets|Drawings|Pictures|Video|Audio|Mail|Archives|Application data|Other)$/;

describe("how restored files lie", () => {
  it.each([
    ["kind", (parts: string[]) => parts.length === 2 && KIND_FOLDERS.test(parts[0] as string)],
    [
      "date",
      (parts: string[]) =>
        parts[0] === "Undated" ||
        (parts.length === 3 && /^\d{4}$/.test(parts[0] as string) && (parts[1] as string).startsWith(`${parts[0]}-`)),
    ],
    ["flat", (parts: string[]) => parts.length === 1],
  ] as const)(
    "%s: each file is verified where the rehearsal said, and those that would meet get numbers",
    async (layout, fits) => {
      await changeTray(bench.db, jobId, { everything: true, chosen: false });
      await changeTray(bench.db, jobId, { items: chosen.map(({ id }) => id), chosen: true });
      const wished = planTo(`Laid out ${layout}`, { layout });
      const page = await rehearsePage(bench.db, jobId, wished, 0);
      const restore = await endedRestore(bench.db, jobId, await startRestore(bench.db, jobId, wished));
      expect(restore.counts.verified).toBe(chosen.length);
      const outputs = restore.results.map(({ output }) => output as string);
      expect(new Set(outputs.map((output) => output.toLowerCase())).size).toBe(outputs.length);
      for (const { output, sha256: hash } of restore.results) {
        const parts = (output as string).slice(page.root.length + 1).split("/");
        expect(fits(parts), parts.join("/")).toBe(true);
        expect(sha256(readFileSync(output as string))).toBe(hash);
      }
      const said = new Map(page.files.map(({ copyId, target }) => [copyId, target]));
      for (const { copyId, output } of restore.results) {
        const target = said.get(copyId) as string;
        // A number behind the name, where another file of the tray would have had the same.
        const stem = basename(target).replace(/\.[^.]*$/, "");
        expect(basename(output as string).startsWith(stem), `${output} for ${target}`).toBe(true);
      }
    },
    90_000,
  );
});

describe("names by a pattern", () => {
  const trayOfAll = async () => {
    await changeTray(bench.db, jobId, { everything: true, chosen: false });
    await changeTray(bench.db, jobId, { items: chosen.map(({ id }) => id), chosen: true });
  };

  it.each(["tree", "kind"] as const)(
    "%s: are what the rehearsal said, numbers too, and a list tells what each was called",
    async (layout) => {
      await trayOfAll();
      const wished = planTo(`Named ${layout}`, { layout, names: "{number} {year} {name}" });
      const page = await rehearsePage(bench.db, jobId, wished, 0);
      const restore = await endedRestore(bench.db, jobId, await startRestore(bench.db, jobId, wished));
      expect(restore.counts.verified).toBe(chosen.length);
      const said = new Map(page.files.map(({ copyId, target }) => [copyId, target]));
      for (const { copyId, output } of restore.results) expect(output).toBe(said.get(copyId));
      const numbers = restore.results.map(({ output }) => basename(output as string).slice(0, 4)).sort();
      expect(numbers).toEqual(chosen.map((_, index) => String(index + 1).padStart(4, "0")));
      for (const { path, output, sha256: hash } of restore.results) {
        expect(basename(output as string)).toMatch(/^\d{4} (\d{4}|undated) /);
        expect(
          basename(output as string)
            .slice(5)
            .replace(/^\S+ /, ""),
        ).toBe(basename(path).replace(/[. ]+$/, "_"));
        expect(sha256(readFileSync(output as string))).toBe(hash);
      }
      const list = readFileSync(join(page.root, "restored files.csv"), "utf8");
      for (const { path, output } of restore.results) {
        expect(list).toContain(basename(output as string));
        expect(list).toContain(path);
      }
      // A part of the tray has the numbers of the whole.
      await trayOfAll();
      const { rows } = await trayPage(bench.db, jobId, 1, 10, "all", true);
      expect(rows.map(({ number }) => number)).toEqual(Array.from({ length: 10 }, (_, index) => index + 11));
    },
    90_000,
  );

  it("go by what is known of a content, and a lost name gets the extension of what it holds", async () => {
    await trayOfAll();
    const [one, other] = chosen as [Item, Item];
    await bench.pool.query("update copies set facts = $2 where id = $1", [
      one.bestCopyId,
      JSON.stringify({ title: "Minutes: spring/2026", camera: "Field 3", taken: Date.UTC(2021, 4, 6, 7, 8, 9) }),
    ]);
    await bench.pool.query(
      "update copies set name_raw = '', name = 'record-77', facts = null, evidence = evidence || $2::jsonb where id = $1",
      [other.bestCopyId, JSON.stringify({ content: { finding: "agrees", format: "jpeg", checked: true } })],
    );
    const wished = planTo("By facts", { layout: "flat", names: "{date} {time} {title} {camera}" });
    const named = new Map((await rehearsePage(bench.db, jobId, wished, 0)).files.map(({ copyId, target }) => [copyId, basename(target)]));
    expect(named.get(one.bestCopyId)).toMatch(/^2021-05-06 07-08-09 Minutes_ spring_2026 Field 3(\.\w+)?$/);
    expect(named.get(other.bestCopyId)).toMatch(/ record-77 unknown camera\.jpg$/);
    const own = await rehearsePage(bench.db, jobId, planTo("By facts", {}), 0);
    expect(basename(own.files.find(({ copyId }) => copyId === other.bestCopyId)?.target as string)).toBe("record-77.jpg");
  });

  it("a pattern that means nothing is refused in words", () => {
    for (const names of ["{nothing}", "{name", "a/b", "{}"]) {
      const parsed = plan.safeParse({ destination: "x", names });
      expect(parsed.error?.issues[0]?.message).toMatch(/^A pattern of names has letters and \{name\}/);
    }
    expect(plan.safeParse({ destination: "x", names: "  {date} {name}  " }).data?.names).toBe("{date} {name}");
  });
});

import { readFileSync } from "node:fs";
import { basename } from "node:path";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { type Item, itemQuery } from "../../server/items/contract";
import { listItems } from "../../server/items/list";
import { startRestore } from "../../server/restores/commands";
import { rehearsePage } from "../../server/restores/queries";
import { changeTray } from "../../server/tray/commands";
import { sha256 } from "../support/backup-truth";
import { searchedJob, startTestBench, type TestBench } from "../support/bench";
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
      const plan = planTo(`Laid out ${layout}`, { layout });
      const page = await rehearsePage(bench.db, jobId, plan, 0);
      const restore = await endedRestore(bench.db, jobId, await startRestore(bench.db, jobId, plan));
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

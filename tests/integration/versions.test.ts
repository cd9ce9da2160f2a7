import { afterAll, beforeAll, beforeEach, expect, it } from "vitest";
import type { Copy } from "../../core/copies/copy";
import { ALL_BYTES_THERE } from "../../core/filesystems/file-record";
import { changeTray } from "../../server/tray/commands";
import { versionChoice } from "../../server/tray/contract";
import { findTray } from "../../server/tray/queries";
import { chooseVersions } from "../../server/tray/versions";
import { jobWith, startTestBench, type TestBench } from "../support/bench";
import { copyAt } from "../support/copies";
import { storeBatch } from "../support/stored";

let bench: TestBench;
let jobId: number;
const day = (text: string) => Date.parse(`${text}T12:00:00Z`);
const LOSS = "2026-03-11T00:00:00Z";

let number = 0;
/** A copy of a file; `reference` says in words which. */
const copy = (name: string, reference: string, modified: string | null, facts: Partial<Copy> = {}) => {
  number += 1;
  const layout = { size: 10, segments: [{ kind: "disk" as const, at: number * 4096, length: 10 }] };
  return copyAt(`/Users/anna/${name}`, { layout, reference, modified: modified === null ? null : day(modified), ...facts });
};
const damaged = {
  ...ALL_BYTES_THERE,
  unreadable: 0,
  content: { finding: "damaged", format: "zip", at: 4, reason: "it breaks off" },
} as const;

beforeAll(async () => {
  bench = await startTestBench();
  const made = await jobWith(bench, "fat12");
  jobId = made.jobId;
  const storeId = made.source.volumes[0]?.id as number;
  const copies = [
    copy("plan.txt", "old", "2026-01-01"),
    copy("plan.txt", "before the loss", "2026-03-10"),
    copy("plan.txt", "after the loss", "2026-03-12", { condition: "partial", survival: 0.5 }),
    copy("plan.txt", "name alone", "2026-04-01", { condition: "name-only", survival: 0, layout: null }),
    copy("plan.txt", "encrypted", "2026-04-02", { absent: "encrypted", condition: "not-checked", layout: null }),
    // What is called whole by its clusters and does not open is no whole one.
    copy("sheet.xlsx", "opens", "2026-02-01"),
    copy("sheet.xlsx", "does not open", "2026-02-02", { evidence: damaged }),
    // A version of a state that has no date of its own stood there from the state on.
    copy("undated.txt", "undated", null, { present: { from: day("2026-02-02"), until: null } }),
    copy("undated.txt", "dated", "2026-01-01"),
    copy("after.txt", "after the loss", "2026-03-11"),
    copy("after.txt", "later still", "2026-03-12"),
    copy("single.txt", "only", "2026-01-01"),
  ];
  await storeBatch(bench, jobId, storeId, "file-record", copies);
}, 60_000);
afterAll(() => bench.close());

beforeEach(async () => {
  await changeTray(bench.db, jobId, { everything: true, chosen: false });
  await changeTray(bench.db, jobId, { matching: { q: "", show: "all", sort: "name", order: "up", limit: 200 }, chosen: true });
});

const inTray = async () =>
  Object.fromEntries(
    (
      await bench.pool.query<{ name: string; reference: string | null }>(
        "select i.name, c.reference from tray_entries t join items i on i.id = t.item_id left join copies c on c.id = t.copy_id where t.job_id = $1",
        [jobId],
      )
    ).rows.map(({ name, reference }) => [name, reference]),
  );

it("the newest is the one changed last that has content, whatever its condition", async () => {
  expect(await chooseVersions(bench.db, jobId, { take: "newest" })).toEqual({ changed: 2, same: 3, without: 0 });
  expect(await inTray()).toEqual({
    "after.txt": "later still",
    "plan.txt": "after the loss",
    "sheet.xlsx": "does not open",
    "single.txt": "only",
    "undated.txt": "undated",
  });
});

it("the newest whole one opens, as far as anybody has looked", async () => {
  await chooseVersions(bench.db, jobId, { take: "whole" });
  expect(await inTray()).toMatchObject({ "plan.txt": "before the loss", "sheet.xlsx": "opens" });
});

it("the newest before a moment is of before it; a file without one stays as it was chosen, and is counted", async () => {
  const choice = versionChoice.parse({ take: "before", before: LOSS });
  const chosen = await chooseVersions(bench.db, jobId, choice);
  expect(chosen.without).toBe(1);
  const tray = await inTray();
  expect(tray).toMatchObject({ "plan.txt": "before the loss", "undated.txt": "undated", "single.txt": "only" });
  // Nothing was chosen for it but the item itself.
  expect(tray["after.txt"]).toBeNull();
  expect(versionChoice.safeParse({ take: "before" }).success).toBe(false);
});

it("takes one copy of each in the place of several, keeps the place it is to go to, and goes back to the best", async () => {
  const { rows } = await bench.pool.query<{ id: string; item_id: string; reference: string }>(
    "select c.id, c.item_id, c.reference from copies c where c.job_id = $1 and c.name = 'plan.txt' and c.layout is not null",
    [jobId],
  );
  await changeTray(bench.db, jobId, { everything: true, chosen: false });
  await changeTray(bench.db, jobId, { copies: rows.map(({ id }) => Number(id)), chosen: true });
  expect(await findTray(bench.db, jobId)).toMatchObject({ count: 3, several: 1 });
  await bench.pool.query(
    "update tray_entries set place_home = 1, place_folder = '/app', place_name = 'plan' where job_id = $1 and copy_id = $2",
    [jobId, rows.find(({ reference }) => reference === "old")?.id],
  );
  expect(await chooseVersions(bench.db, jobId, { take: "newest" })).toEqual({ changed: 1, same: 0, without: 0 });
  const entries = async () =>
    (
      await bench.pool.query(
        "select c.reference, t.place_folder, t.place_name from tray_entries t left join copies c on c.id = t.copy_id where t.job_id = $1",
        [jobId],
      )
    ).rows;
  expect(await entries()).toEqual([{ reference: "after the loss", place_folder: "/app", place_name: "plan" }]);
  expect(await chooseVersions(bench.db, jobId, { take: "newest" })).toEqual({ changed: 0, same: 1, without: 0 });
  await chooseVersions(bench.db, jobId, { take: "best" });
  expect(await entries()).toEqual([{ reference: null, place_folder: "/app", place_name: "plan" }]);
});

import { mkdirSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import { sql } from "drizzle-orm";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { askToCheck, checkCopy } from "../../server/items/check";
import { itemFilter, itemQuery } from "../../server/items/contract";
import { filterCondition } from "../../server/items/filter";
import { listItems, positionOf } from "../../server/items/list";
import { findItem } from "../../server/items/queries";
import { changeJob, createJob } from "../../server/jobs/commands";
import { startPass } from "../../server/passes/commands";
import { listPasses } from "../../server/passes/queries";
import { addSource } from "../../server/sources/commands";
import { listSources } from "../../server/sources/queries";
import { changeTray } from "../../server/tray/commands";
import { startTestBench, type TestBench, until } from "../support/bench";
import { labFiles } from "../support/lab-files";

let bench: TestBench;
let jobId: number;
const lab = labFiles();

beforeAll(async () => {
  bench = await startTestBench();
  const folder = join(bench.sources, "desk");
  mkdirSync(folder);
  const sound = lab.bytes("good-report.docx");
  writeFileSync(join(folder, "sound.docx"), sound);
  writeFileSync(join(folder, "cut.docx"), sound.subarray(0, sound.length / 2));
  writeFileSync(join(folder, "zeros.bin"), Buffer.alloc(5000));
  writeFileSync(join(folder, "Größe der Kuppel.txt"), "twelve metres");
  jobId = await createJob(bench.db, { title: "Live files", client: "" });
  await addSource(bench.db, jobId, folder);
  const [source] = await listSources(bench.db, jobId);
  await startPass(bench.db, jobId, source?.volumes[0]?.id as number);
  bench.worker();
  await until(async () => (await listPasses(bench.db, jobId)).every((pass) => pass.state === "done"));
});
afterAll(() => bench.close());

const query = (facts: Record<string, unknown> = {}) => itemQuery.parse({ show: "all", ...facts });
const named = async (name: string) => {
  const { items } = await listItems(bench.db, jobId, query({ q: `"${name}"` }));
  return items[0] as (typeof items)[number];
};

describe("live files", () => {
  it("are in place until somebody looks, and damaged when they do not open", async () => {
    const before = await named("cut.docx");
    expect([before.live, before.opens]).toEqual([true, null]);
    await checkCopy(bench.db, jobId, before.bestCopyId);
    const after = await named("cut.docx");
    expect(after).toMatchObject({ condition: "partial", opens: "no", live: true });
    const detail = await findItem(bench.db, after.id);
    expect(detail?.list[0]?.notes.join()).toContain("The content is damaged");
    // Looking twice changes nothing and says nothing twice.
    await checkCopy(bench.db, jobId, before.bestCopyId);
    expect((await findItem(bench.db, after.id))?.list[0]?.notes).toEqual(detail?.list[0]?.notes);
  });

  it("are looked at when they are put into the tray", async () => {
    const item = await named("sound.docx");
    await changeTray(bench.db, jobId, { items: [item.id], chosen: true });
    await until(async () => (await named("sound.docx")).opens !== null);
    expect(await named("sound.docx")).toMatchObject({ condition: "whole", opens: "yes" });
  });

  it("are looked at again in the tray when a pass ends: the best copy may be another one by then", async () => {
    const item = await named("sound.docx");
    await bench.db.execute(sql`update copies set evidence = evidence || '{"content": null}' where id = ${item.bestCopyId}`);
    // A click on something else is no reason to look at all of a large tray.
    const other = await named("Größe der Kuppel.txt");
    await changeTray(bench.db, jobId, { items: [other.id], chosen: true });
    const asked = async () => {
      const { rows } = await bench.db.execute(sql`
        select 1 from copies c where c.id = ${item.bestCopyId} and (c.evidence->>'content' is not null
          or exists (select 1 from copy_checks k where k.copy_id = c.id))`);
      return rows.length > 0;
    };
    expect(await asked()).toBe(false);
    await changeTray(bench.db, jobId, { items: [other.id], chosen: false });
    const [source] = await listSources(bench.db, jobId);
    await startPass(bench.db, jobId, source?.volumes[0]?.id as number, "file-record", { again: true });
    await until(asked);
  });

  it("are looked at all together when that is asked for; nothing but zeros is not whole", async () => {
    const where = await filterCondition(bench.db, jobId, itemFilter.parse({ show: "all" }));
    await askToCheck(bench.db, jobId, sql`select i.best_copy_id from items i where ${where}`);
    await until(async () => (await bench.pool.query("select 1 from copy_checks where job_id = $1", [jobId])).rows.length === 0);
    const { items } = await listItems(bench.db, jobId, query());
    expect(items.every((item) => item.opens !== null)).toBe(true);
    expect(await named("zeros.bin")).toMatchObject({ condition: "not-checked", survival: 0 });
  });
});

describe("the list", () => {
  it("is searched whatever the accents, and by patterns of whole names", async () => {
    const names = async (q: string) => (await listItems(bench.db, jobId, query({ q }))).items.map((item) => item.name).sort();
    for (const q of ["große", "GRÖßE", "grosse kuppel", "Größe"]) expect(await names(q), q).toEqual(["Größe der Kuppel.txt"]);
    expect(await names("gruene kuppel")).toEqual([]);
    expect(await names("*.docx")).toEqual(["cut.docx", "sound.docx"]);
    expect(await names("*.doc")).toEqual([]);
    expect(await names("s?und.*")).toEqual(["sound.docx"]);
  });

  it("says where an item stands in it, and that it is not in it", async () => {
    const { items } = await listItems(bench.db, jobId, query({ sort: "size", order: "down" }));
    for (const [index, item] of items.entries())
      expect(await positionOf(bench.db, jobId, query({ sort: "size", order: "down" }), item.id)).toBe(index);
    expect(await positionOf(bench.db, jobId, query({ q: "*.docx" }), (await named("Größe")).id)).toBeNull();
  });
});

describe("the job's zone", () => {
  it("moves local times alone, whatever they were read from", async () => {
    const { rows } = await bench.pool.query<{ id: string }>(
      "select id from copies where job_id = $1 and type = 'file' order by id limit 2",
      [jobId],
    );
    const [local, utc] = rows.map(({ id }) => id);
    await bench.pool.query("update copies set local_times = (id = $1), modified = '2026-07-01T12:00:00Z' where id in ($1, $2)", [
      local,
      utc,
    ]);
    await changeJob(bench.db, jobId, { timeZone: "Europe/Paris" });
    const { rows: after } = await bench.pool.query<{ id: string; modified: Date }>("select id, modified from copies where id in ($1, $2)", [
      local,
      utc,
    ]);
    const at = new Map(after.map(({ id, modified }) => [id, modified.toISOString()]));
    expect([at.get(local as string), at.get(utc as string)]).toEqual(["2026-07-01T10:00:00.000Z", "2026-07-01T12:00:00.000Z"]);
    await changeJob(bench.db, jobId, { timeZone: "UTC" });
  });
});

import { copyFileSync, mkdirSync, renameSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { itemQuery } from "../../server/items/contract";
import { countFacets } from "../../server/items/facets";
import { listItems } from "../../server/items/list";
import { createJob } from "../../server/jobs/commands";
import { startPass } from "../../server/passes/commands";
import { listPasses } from "../../server/passes/queries";
import { addSource, relinkSource, removeSource, renameSource, rereadSource } from "../../server/sources/commands";
import { listSources } from "../../server/sources/queries";
import { noteUnreadable } from "../../server/sources/unreadable";
import { changeTray } from "../../server/tray/commands";
import { findTray } from "../../server/tray/queries";
import { jobWith, startTestBench, type TestBench, until } from "../support/bench";
import { fixture } from "../support/volume-truth";

let bench: TestBench;
beforeAll(async () => {
  bench = await startTestBench();
  bench.worker();
});
afterAll(() => bench.close());

const readAll = async (jobId: number) => {
  for (const source of await listSources(bench.db, jobId))
    for (const volume of source.volumes) if (volume.readable) await startPass(bench.db, jobId, volume.id);
  await until(async () => (await listPasses(bench.db, jobId)).every((pass) => pass.state === "done"));
};
const all = (jobId: number, query: Record<string, unknown> = {}) =>
  listItems(bench.db, jobId, itemQuery.parse({ show: "all", limit: 1000, ...query }));

describe("a source", () => {
  it("is renamed, found elsewhere by what it is, and not mistaken for another", async () => {
    const { jobId, source, path } = await jobWith(bench, "fat12");
    await readAll(jobId);
    await renameSource(bench.db, jobId, source.id, "The white stick");
    const moved = join(bench.sources, "moved.img");
    renameSync(path, moved);
    expect((await listSources(bench.db, jobId))[0]).toMatchObject({ name: "The white stick", connected: false });
    const other = join(bench.sources, "other.img");
    writeFileSync(other, fixture("fat16.img.gz"));
    await expect(relinkSource(bench.db, jobId, source.id, other)).rejects.toMatchObject({
      status: 409,
      message: expect.stringContaining("not the same source"),
    });
    await relinkSource(bench.db, jobId, source.id, moved);
    expect((await listSources(bench.db, jobId))[0]).toMatchObject({ path: moved, connected: true });
    expect((await all(jobId)).items.length).toBeGreaterThan(20);
  });

  it("that is a folder is known again by its files", async () => {
    const folder = join(bench.sources, "profile");
    mkdirSync(join(folder, "Documents"), { recursive: true });
    for (let number = 0; number < 12; number += 1) writeFileSync(join(folder, "Documents", `${number}.txt`), "x".repeat(number + 1));
    const jobId = await createJob(bench.db, { title: "A folder moves", client: "" });
    const id = await addSource(bench.db, jobId, folder);
    await readAll(jobId);
    const [elsewhere, empty] = [join(bench.sources, "profile again"), join(bench.sources, "another profile")];
    renameSync(folder, elsewhere);
    mkdirSync(empty);
    await expect(relinkSource(bench.db, jobId, id, empty)).rejects.toMatchObject({ status: 409 });
    await relinkSource(bench.db, jobId, id, elsewhere);
    expect((await listSources(bench.db, jobId))[0]).toMatchObject({ path: elsewhere, connected: true });
  });

  it("is read again: what it is now is reported, and what could not be read is asked for once more", async () => {
    const { jobId, source } = await jobWith(bench, "small-mbr").catch(() => jobWith(bench, "exfat"));
    await bench.db.transaction((tx) => noteUnreadable(tx, source.id, [{ start: 512, end: 1024 }]));
    await bench.db.transaction((tx) => noteUnreadable(tx, source.id, [{ start: 1024, end: 2048 }]));
    expect((await listSources(bench.db, jobId))[0]?.unreadable).toEqual([{ start: 512, end: 2048 }]);
    await bench.pool.query("update stores set label = 'as it was before' where source_id = $1", [source.id]);
    await rereadSource(bench.db, jobId, source.id);
    const [now] = await listSources(bench.db, jobId);
    expect(now?.unreadable).toEqual([]);
    expect(now?.volumes.map(({ id, label }) => [id, label])).toEqual(source.volumes.map(({ id, label }) => [id, label]));
  });

  it("goes with what was found in it, and nothing of others goes along", async () => {
    const { jobId, source } = await jobWith(bench, "fat12");
    const second = join(bench.sources, "second stick.img");
    writeFileSync(second, fixture("fat16.img.gz"));
    const other = await addSource(bench.db, jobId, second);
    await readAll(jobId);
    const kept = (await all(jobId, { source: other })).items;
    await changeTray(bench.db, jobId, { matching: itemQuery.parse({ show: "all" }), chosen: true });
    const facets = await countFacets(bench.db, jobId, itemQuery.parse({ show: "all" }));
    expect(facets.source.map(({ words }) => words).sort()).toEqual(["fat12.img", "second stick.img"]);
    expect(facets.source.reduce((sum, { count }) => sum + count, 0)).toBe(facets.total);
    await expect(removeSource(bench.db, jobId, source.id)).rejects.toMatchObject({ status: 409 });
    await removeSource(bench.db, jobId, source.id, true);
    expect((await listSources(bench.db, jobId)).map(({ id }) => id)).toEqual([other]);
    expect((await all(jobId)).items.map(({ id }) => id).sort()).toEqual(kept.map(({ id }) => id).sort());
    expect((await findTray(bench.db, jobId)).count).toBe(kept.length);
    const { rows } = await bench.pool.query(
      "select 1 from copies c where c.job_id = $1 and not exists (select 1 from items i where i.id = c.item_id) and c.item_id is not null",
      [jobId],
    );
    expect(rows).toEqual([]);
  });

  it("that begins with text is taken with a warning, and a further part of an image is no disk of its own", async () => {
    const jobId = await createJob(bench.db, { title: "Odd images", client: "" });
    const text = join(bench.sources, "written-over.img");
    writeFileSync(text, `${"minutes of the meeting\n".repeat(400)}${"\0".repeat(100_000)}`);
    await addSource(bench.db, jobId, text);
    expect((await listSources(bench.db, jobId))[0]?.notes.join()).toContain("begins like a text file");
    for (const part of ["001", "002"]) copyFileSync(text, join(bench.sources, `split.${part}`));
    await expect(addSource(bench.db, jobId, join(bench.sources, "split.002"))).rejects.toMatchObject({
      status: 409,
      message: expect.stringContaining("further part of “split.001”"),
    });
  });
});

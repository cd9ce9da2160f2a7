import { renameSync } from "node:fs";
import { join } from "node:path";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { runTask } from "../../server/content/pool";
import { createJob } from "../../server/jobs/commands";
import { startPass } from "../../server/passes/commands";
import type { PassPlace } from "../../server/passes/contract";
import { listPasses } from "../../server/passes/queries";
import { startRestore } from "../../server/restores/commands";
import { addInnerSource, relinkSource, removeSource, rereadSource } from "../../server/sources/commands";
import type { Source } from "../../server/sources/contract";
import { listSources } from "../../server/sources/queries";
import { changeTray } from "../../server/tray/commands";
import { jobWith, startTestBench, type TestBench, until } from "../support/bench";
import { endedRestore, planTo } from "../support/restores";
import { fixture } from "../support/volume-truth";

interface Entry {
  path: string;
  state: "live" | "deleted";
  size: number;
  sha256: string;
}
/** What `make-nested.ts` put into the stick on the virtual disk on the drive. */
const blue = (JSON.parse(fixture("nested.json.gz").toString()) as { "/Backups/laptop.vhdx": { "/Sticks/blue stick.img": Entry[] } })[
  "/Backups/laptop.vhdx"
]["/Sticks/blue stick.img"];

let bench: TestBench;
let jobId: number;
/** The drive, the virtual disk on it, and the stick on that. */
let chain: Source[];

beforeAll(async () => {
  bench = await startTestBench();
  const made = await jobWith(bench, "nested");
  jobId = made.jobId;
  bench.worker();
  await read(volumeOf(made.source, "ntfs", 0));
  const laptop = await addInnerSource(bench.db, jobId, await copyAt("/Backups/laptop.vhdx"));
  await read(volumeOf(await sourceOf(laptop), "ntfs"));
  const stick = await addInnerSource(bench.db, jobId, await copyAt("/Sticks/blue stick.img", laptop));
  await read(volumeOf(await sourceOf(stick), "fat12"));
  chain = [await sourceOf(made.source.id), await sourceOf(laptop), await sourceOf(stick)];
}, 120_000);
afterAll(() => bench.close());

const sourceOf = async (id: number) => (await listSources(bench.db, jobId)).find((source) => source.id === id) as Source;
const volumeOf = ({ volumes }: Source, filesystem: string, offset?: number) =>
  volumes.find((each) => each.filesystem === filesystem && (offset === undefined || each.offset === offset))?.id as number;

async function read(storeId: number, place: PassPlace = "file-record"): Promise<void> {
  const id = await startPass(bench.db, jobId, storeId, place);
  const pass = await until(async () =>
    (await listPasses(bench.db, jobId)).find((each) => each.id === id && !["queued", "running"].includes(each.state)),
  );
  expect([pass.state, pass.problem]).toEqual(["done", null]);
}

interface StoredRow {
  id: string;
  item_id: string;
  path: string;
  state: "live" | "deleted";
  size: string;
  place: string;
}
/** The files found in a source. */
async function copiesOf(sourceId: number): Promise<StoredRow[]> {
  const { rows } = await bench.pool.query<StoredRow>(
    `select c.id, c.item_id, f.path || '/' || c.name as path, c.state, c.size, c.place from copies c join folders f on f.id = c.folder_id
     join stores v on v.id = c.store_id where v.source_id = $1 and c.type = 'file' and c.item_id is not null`,
    [sourceId],
  );
  return rows;
}

async function copyAt(path: string, sourceId?: number): Promise<number> {
  const [outer] = await listSources(bench.db, jobId);
  const found = (await copiesOf(sourceId ?? (outer as Source).id)).find((copy) => copy.path === path && copy.state === "live");
  return Number(found?.id);
}

const byPath = <T extends { path: string }>(rows: readonly T[]) => [...rows].sort((a, b) => (a.path < b.path ? -1 : 1));

describe("a stick whose image lies on a virtual disk whose file lies on a drive", () => {
  it("is a source inside a source inside a source", () => {
    const [drive, laptop, stick] = chain as [Source, Source, Source];
    expect(drive).toMatchObject({ within: [], parentStoreId: null });
    expect(laptop).toMatchObject({ name: "laptop.vhdx", container: "vhdx", within: ["/Backups/laptop.vhdx"], path: drive.path });
    expect(stick).toMatchObject({ name: "blue stick.img", within: ["/Backups/laptop.vhdx", "/Sticks/blue stick.img"], path: drive.path });
    expect(drive.volumes.map(({ id }) => id)).toContain(laptop.parentStoreId);
    expect(laptop.volumes.map(({ id }) => id)).toContain(stick.parentStoreId);
  });

  it("gives its files, live and deleted, with the content that was put into them", async () => {
    const copies = await copiesOf((chain[2] as Source).id);
    const found = await Promise.all(
      copies.map(async ({ id, path, state, size }) => ({ path, state, size: Number(size), sha256: await runTask("hash", [Number(id)]) })),
    );
    expect(byPath(found)).toEqual(byPath(blue));
    const minutes = copies.find(({ path }) => path.endsWith(".txt"));
    expect(await runTask("text", [Number(minutes?.id), null])).toMatchObject({
      text: expect.stringContaining("Minutes of the spring meeting, BLUE."),
    });
  });

  it("is restored byte for byte, verified, and reported with where it lies", async () => {
    const copies = await copiesOf((chain[2] as Source).id);
    await changeTray(bench.db, jobId, { items: copies.map(({ item_id }) => Number(item_id)), chosen: true });
    const { results } = await endedRestore(bench.db, jobId, await startRestore(bench.db, jobId, planTo("From the stick")));
    expect(results.map(({ state }) => state)).toEqual(blue.map(() => "verified"));
    expect(results.map(({ sha256 }) => sha256).sort()).toEqual(blue.map(({ sha256 }) => sha256).sort());
  });

  it("is swept for raw content, on several threads, as the virtual disk is", async () => {
    const [, laptop, stick] = chain as [Source, Source, Source];
    await read(volumeOf(stick, "fat12"), "raw");
    expect((await listPasses(bench.db, jobId)).find(({ place }) => place === "raw")).toMatchObject({ state: "done", total: stick.size });
    await read(volumeOf(laptop, "ntfs"), "raw");
    // On the stick the records own what is found; on the disk around it the same text is in the midst of a file.
    const found = (await copiesOf(laptop.id)).filter(({ place }) => place === "raw");
    const minutes = blue.find(({ path }) => path.endsWith(".txt"));
    expect(found.map(({ size }) => Number(size))).toContain(minutes?.size);
    expect((await copiesOf(stick.id)).filter(({ place }) => place === "raw")).toEqual([]);
  });

  it("is added once, out of a copy of its own job, and only where there is a disk", async () => {
    const { db } = bench;
    const laptop = (chain[1] as Source).id;
    const stick = await copyAt("/Sticks/blue stick.img", laptop);
    await expect(addInnerSource(db, jobId, stick)).rejects.toThrow("already part of the job");
    const other = await createJob(db, { title: "Another job", client: "" });
    await expect(addInnerSource(db, other, stick)).rejects.toThrow("no such copy");
    await expect(addInnerSource(db, jobId, await copyAt("/Minutes/spring meeting.txt", (chain[2] as Source).id))).rejects.toThrow(
      "No disk image is recognised in “spring meeting.txt”",
    );
    await expect(addInnerSource(db, jobId, 2_000_000_000)).rejects.toThrow("no such copy");
  });

  it("a disk in a deleted file says so, and its files are whole only where their content proves it", async () => {
    const { db } = bench;
    const [drive] = await listSources(db, jobId);
    const old = (await copiesOf((drive as Source).id)).find(({ path, state }) => path === "/Old/laptop-old.vhdx" && state === "deleted");
    const id = await addInnerSource(db, jobId, Number(old?.id));
    const source = await sourceOf(id);
    expect(source.notes.join(" ")).toContain("no live one");
    await read(volumeOf(source, "ntfs"));
    const conditions = async (sourceId: number) => {
      const { rows } = await bench.pool.query<{ condition: string }>(
        `select distinct c.condition from copies c join stores v on v.id = c.store_id
         where v.source_id = $1 and c.type = 'file' and c.state = 'live' and c.place = 'file-record' and c.size > 0 and c.item_id is not null`,
        [sourceId],
      );
      return rows.map(({ condition }) => condition);
    };
    expect(await conditions(id)).toEqual(["not-checked"]);
    expect(await conditions((chain[1] as Source).id)).toEqual(["whole"]);
    await removeSource(db, jobId, id, true);
  });

  it("in three parts is one stick", async () => {
    const id = await addInnerSource(bench.db, jobId, await copyAt("/Sticks/red.001"));
    const red = await sourceOf(id);
    expect(red).toMatchObject({ container: "split", size: 720 << 10 });
    const { rows } = await bench.pool.query<{ within: { parts: { name: string }[] }[] }>("select within from sources where id = $1", [id]);
    // Only what is needed of the folder is kept in mind.
    expect(rows[0]?.within[0]?.parts.map(({ name }) => name)).toEqual(["red.002", "red.003"]);
    await removeSource(bench.db, jobId, id);
  });

  it("moves with the drive around it, and is read again where it lies", async () => {
    const [drive, laptop, stick] = chain as [Source, Source, Source];
    const elsewhere = join(bench.sources, "moved.img");
    renameSync(drive.path, elsewhere);
    const copy = Number((await copiesOf(stick.id))[0]?.id);
    await expect(runTask("hash", [copy])).rejects.toThrow("is not there");
    await expect(relinkSource(bench.db, jobId, laptop.id, elsewhere)).rejects.toThrow("lies inside another one");
    await relinkSource(bench.db, jobId, drive.id, elsewhere);
    expect((await sourceOf(stick.id)).path).toBe(elsewhere);
    expect(await runTask("hash", [copy])).toMatch(/^[0-9a-f]{64}$/);
    await rereadSource(bench.db, jobId, stick.id);
    expect((await sourceOf(stick.id)).volumes.map(({ id }) => id)).toEqual(stick.volumes.map(({ id }) => id));
  });

  it("goes with the drive around it, once it is sure that what was found in it may go", async () => {
    const [drive, , stick] = chain as [Source, Source, Source];
    await expect(removeSource(bench.db, jobId, drive.id)).rejects.toThrow("or one inside it, has been searched");
    await removeSource(bench.db, jobId, drive.id, true);
    expect(await listSources(bench.db, jobId)).toEqual([]);
    expect(await copiesOf(stick.id)).toEqual([]);
    const { rows } = await bench.pool.query(
      "select (select count(*) from items where job_id = $1) + (select count(*) from folders where job_id = $1) as left",
      [jobId],
    );
    expect(Number(rows[0].left)).toBe(0);
  });
});

import { createHash } from "node:crypto";
import { mkdirSync, readFileSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { readBytes } from "../../core/bytes/byte-source";
import { findItem } from "../../server/items/queries";
import { changeJob, createJob } from "../../server/jobs/commands";
import { startPass } from "../../server/passes/commands";
import type { PassOptions, PassPlace } from "../../server/passes/contract";
import { isItem } from "../../server/passes/copy-rows";
import { listPasses } from "../../server/passes/queries";
import { storedCopy, withContent } from "../../server/previews/content";
import { startRestore } from "../../server/restores/commands";
import { rehearse } from "../../server/restores/rehearsal";
import { addSource } from "../../server/sources/commands";
import { listSources } from "../../server/sources/queries";
import { changeTray } from "../../server/tray/commands";
import { jobWith, startTestBench, type TestBench, until } from "../support/bench";
import { compass } from "../support/command-line";
import { type DrivenVolume, drivenOverBy } from "../support/driven-volumes";
import { endedRestore, planTo } from "../support/restores";
import { copiesAt, fixture, imageSource, pathOf, readTruth, type TrueEntry } from "../support/volume-truth";

let bench: TestBench;
beforeAll(async () => {
  bench = await startTestBench();
  bench.worker();
});
afterAll(() => bench.close());

describe("an image whose parent lies elsewhere", () => {
  it("asks for it, opens with it, and stays readable", async () => {
    const child = join(bench.sources, "lone-child.vhd");
    const parent = join(bench.sources, "shelf", "some name.vhd");
    mkdirSync(join(bench.sources, "shelf"));
    writeFileSync(child, fixture("diff-child.vhd.gz"));
    writeFileSync(parent, fixture("diff-parent.vhd.gz"));
    const jobId = await createJob(bench.db, { title: "Parent elsewhere", client: "" });
    await expect(addSource(bench.db, jobId, child)).rejects.toMatchObject({
      status: 424,
      message: expect.stringContaining("not beside it"),
    });
    await expect(addSource(bench.db, jobId, child, ["/etc/hostname"])).rejects.toMatchObject({ status: 403 });
    await addSource(bench.db, jobId, child, [parent]);
    const [source] = await listSources(bench.db, jobId);
    const ntfs = source?.volumes.find((volume) => volume.filesystem === "ntfs");
    const rows = await run(jobId, ntfs?.id as number, "file-record");
    const [entry] = readTruth("small-mbr").entries.filter(
      (each) => each.type === "file" && each.state === "live" && each.volume === undefined && Number(each.size) > 4096,
    );
    const row = rows.find((each) => each.state === "live" && each.path.normalize("NFC") === pathOf(entry as NonNullable<typeof entry>));
    expect(await contentHash(Number(row?.id))).toBe(entry?.sha256);
  });
});

interface Row {
  id: string;
  path: string;
  state: string;
  place: string;
  condition: string;
  size: string;
}

/** Runs a pass to its end. @returns the copies it stored */
async function run(jobId: number, storeId: number, place: PassPlace, options: PassOptions = {}): Promise<Row[]> {
  const id = await startPass(bench.db, jobId, storeId, place, options);
  await until(async () => (await listPasses(bench.db, jobId)).find((pass) => pass.id === id)?.state === "done");
  const { rows } = await bench.pool.query<Row>(
    "select c.id, f.path || '/' || c.name as path, c.state, c.place, c.condition, c.size from copies c join folders f on f.id = c.folder_id where c.pass_id = $1",
    [id],
  );
  return rows;
}

const contentHash = async (copyId: number) =>
  withContent(await storedCopy(bench.db, copyId), (content) =>
    createHash("sha256")
      .update(readBytes(content, 0, content.size))
      .digest("hex"),
  );

describe("a source that is a differencing image", () => {
  it("is read through its parent: records, and contents byte for byte", async () => {
    const child = join(bench.sources, "child.vhd");
    writeFileSync(child, fixture("diff-child.vhd.gz"));
    const jobId = await createJob(bench.db, { title: "Image and parent", client: "" });
    await expect(addSource(bench.db, jobId, child)).rejects.toThrow("which is not beside it");
    writeFileSync(join(bench.sources, "open-diff-parent.vhd"), fixture("diff-parent.vhd.gz"));
    await addSource(bench.db, jobId, child);
    const [source] = await listSources(bench.db, jobId);
    expect(source).toMatchObject({ container: "vhd", volumes: [{ filesystem: "ntfs", standing: "present" }, { filesystem: "fat16" }] });
    const rows = await run(jobId, source?.volumes[0]?.id as number, "file-record");
    const live = readTruth("small-mbr").entries.filter(
      (entry) => entry.type === "file" && entry.state === "live" && entry.volume === undefined && entry.size,
    );
    for (const entry of live.filter((_, index) => index % 12 === 0)) {
      const row = rows.find((each) => each.state === "live" && each.path.normalize("NFC") === pathOf(entry));
      expect(await contentHash(Number(row?.id)), entry.path).toBe(entry.sha256);
    }
    // What the reading of the whole volume gave stands with the volume, once its worker is through.
    const read = await until(async () => (await listSources(bench.db, jobId))[0]?.volumes.find((volume) => volume.readingAt));
    expect(read.findings).toEqual([]);
    expect(read.profiles.map((profile) => profile.path)).toEqual(expect.arrayContaining(["/Users/jbrevik"]));
  }, 60_000);
});

describe("a volume of an earlier division under the present one", () => {
  it("has no live files, and none that is whole but is not", async () => {
    const [{ truth, open }] = drivenOverBy("fat-over-ntfs") as [DrivenVolume];
    const path = join(bench.sources, "formatted-over.img");
    const disk = open();
    writeFileSync(path, readBytes(disk, 0, disk.size));
    const jobId = await createJob(bench.db, { title: "Formatted over", client: "" });
    await addSource(bench.db, jobId, path);
    const [source] = await listSources(bench.db, jobId);
    const earlier = source?.volumes.find(({ standing }) => standing === "earlier");
    const rows = await run(jobId, earlier?.id as number, "file-record");
    expect(rows.length).toBeGreaterThan(10);
    expect(rows.filter(({ state }) => state === "live")).toEqual([]);
    const ever = new Set([...Object.values(truth.history).flat(), ...truth.midway]);
    const whole = rows.filter(({ condition, size }) => condition === "whole" && Number(size) > 0);
    expect(whole.length).toBeGreaterThan(0);
    for (const { id, path: at } of whole.filter((row) => !/\/\$/.test(row.path)))
      expect(ever.has(await contentHash(Number(id))), at).toBe(true);
    // The command line weighs them in the same way.
    const listed = compass("list", path, "--volume", String(earlier?.number), "--records-only", "--json").lines();
    expect(listed.filter(({ state }) => state === "live")).toEqual([]);
    expect(listed.filter(({ condition }) => condition === "partial" || condition === "name-only").length).toBeGreaterThan(2);
  }, 60_000);
});

describe("a deleted file that others were written over", () => {
  it("names the files that use its clusters now, as the driver's own lists of clusters have them", async () => {
    const { jobId, source } = await jobWith(bench, "ntfs-mbr");
    await run(jobId, source.volumes.find((volume) => volume.filesystem === "ntfs")?.id as number, "file-record");
    const files = readTruth("ntfs-mbr").entries.filter((entry) => entry.type === "file" && entry.runs && entry.volume === undefined);
    const clusters = (entry: TrueEntry) =>
      (entry.runs ?? []).flatMap(([, at, count]) => (at === null ? [] : Array.from({ length: count }, (_, i) => at + i)));
    const users = new Map(
      files.filter((entry) => entry.state === "live").flatMap((entry) => clusters(entry).map((at) => [at, pathOf(entry)] as const)),
    );
    const victims = files.filter((entry) => /^deleted-partial/.test(entry.state) && !entry.mft?.recordReused);
    const paths = new Set(files.map(pathOf));
    let named = 0;
    for (const victim of victims) {
      const { rows } = await bench.pool.query<{ id: string; item_id: string }>(
        "select c.id, c.item_id from copies c join folders f on f.id = c.folder_id where c.job_id = $1 and c.state = 'deleted' and normalize(f.path || '/' || c.name) = $2",
        [jobId, pathOf(victim)],
      );
      const detail = rows[0] ? await findItem(bench.db, Number(rows[0].item_id)) : null;
      const takers = detail?.list.find((copy) => copy.id === Number(rows[0]?.id))?.takenBy.map((path) => path.normalize("NFC"));
      if (!takers) continue;
      const wanted = new Set(clusters(victim).flatMap((at) => users.get(at) ?? []));
      expect(takers.filter((path) => paths.has(path)).sort(), victim.path).toEqual([...wanted].sort());
      named += wanted.size;
    }
    expect(named).toBeGreaterThan(40);
  }, 60_000);
});

describe("what a record holds beside the content", () => {
  it("named streams, several names and the moment of deletion stand with the copy", async () => {
    const { jobId, source } = await jobWith(bench, "ntfs-features");
    const rows = await run(jobId, source.volumes[0]?.id as number, "file-record");
    const { entries } = JSON.parse(fixture("ntfs-features.json.gz").toString()) as {
      entries: { path: string; streams?: Record<string, string>; deletedAt?: string }[];
    };
    const detailOf = async (path: string | undefined) => {
      const { rows: found } = await bench.pool.query<{ item_id: string }>("select item_id from copies where id = $1", [
        rows.find((row) => row.path === path)?.id,
      ]);
      return findItem(bench.db, Number(found[0]?.item_id));
    };
    const letter = entries.find((entry) => entry.streams);
    const [copy] = (await detailOf(letter?.path))?.list ?? [];
    expect(copy?.streams.map((stream) => stream.name).sort()).toEqual(Object.keys(letter?.streams ?? {}).sort());
    expect(copy?.links).toBe(2);
    const gone = entries.find((entry) => entry.deletedAt);
    expect((await detailOf(gone?.path))?.list[0]?.deletedAt?.toISOString()).toBe(gone?.deletedAt);
  }, 60_000);
});

describe("named streams", () => {
  it("are rehearsed and written beside their file, byte for byte, when they are wanted", async () => {
    const { jobId, source } = await jobWith(bench, "ntfs-features");
    await run(jobId, source.volumes[0]?.id as number, "file-record");
    const { entries } = JSON.parse(fixture("ntfs-features.json.gz").toString()) as {
      entries: { path: string; sha256: string; streams?: Record<string, string> }[];
    };
    const letter = entries.find((entry) => entry.path === "/Papers/letter.txt");
    const { rows } = await bench.pool.query<{ id: string }>(
      "select i.id from items i join folders f on f.id = i.folder_id where i.job_id = $1 and f.path || '/' || i.name = $2",
      [jobId, letter?.path],
    );
    await changeTray(bench.db, jobId, { items: [Number(rows[0]?.id)], chosen: true });
    const plan = planTo("With streams");
    const without = await rehearse(bench.db, jobId, plan);
    expect([without.files.length, without.streams]).toEqual([1, 2]);
    const id = await startRestore(bench.db, jobId, { ...plan, streams: "beside" });
    const restore = await endedRestore(bench.db, jobId, id);
    const expected = [letter?.sha256, ...Object.values(letter?.streams ?? {})].sort();
    expect(restore.results.map((result) => result.state)).toEqual(["verified", "verified", "verified"]);
    expect(restore.results.map((result) => result.sha256).sort()).toEqual(expected);
    const written = restore.results.map((result) =>
      createHash("sha256")
        .update(readFileSync(result.output as string))
        .digest("hex"),
    );
    expect(written.sort()).toEqual(expected);
    expect(restore.results.map((result) => result.output?.split("/").pop()).sort()).toEqual(
      ["letter.txt", "letter.txt [long note]", "letter.txt [origin]"].sort(),
    );
  }, 60_000);
});

describe("a pass over leftover records", () => {
  it("brings the pictures of a formatted card into the list, in their folders", async () => {
    const { jobId, source } = await jobWith(bench, "camera-formatted");
    const volume = source.volumes[0]?.id as number;
    expect(await run(jobId, volume, "file-record")).toEqual([]);
    const rows = await run(jobId, volume, "leftover-record");
    const intact = readTruth("camera-formatted").entries.filter((entry) => entry.type === "file" && entry.state === "lost-format-intact");
    for (const entry of intact) {
      const row = rows.find((each) => each.path === pathOf(entry));
      expect([row?.place, row?.condition, await contentHash(Number(row?.id))], entry.path).toEqual([
        "leftover-record",
        /\.(MOV|MP4)$/.test(entry.path) ? "not-checked" : "whole",
        entry.sha256,
      ]);
    }
    await expect(startPass(bench.db, jobId, volume, "leftover-record")).rejects.toThrow("leftover records of this volume are read already");
  }, 60_000);
});

describe("times of a FAT volume", () => {
  it("are local times: they are read in the job's zone, and move with it", async () => {
    const { jobId, source } = await jobWith(bench, "fat16");
    await changeJob(bench.db, jobId, { timeZone: "Europe/Berlin" });
    await run(jobId, source.volumes[0]?.id as number, "file-record");
    const stored = async () =>
      (
        await bench.pool.query<{ path: string; local: string }>(
          `select f.path || '/' || c.name as path, to_char(c.modified at time zone j.time_zone, 'YYYY-MM-DD"T"HH24:MI:SS') as local
           from copies c join folders f on f.id = c.folder_id join jobs j on j.id = c.job_id where c.job_id = $1 and c.state = 'live'`,
          [jobId],
        )
      ).rows;
    const listed = readTruth("fat16").entries.filter((entry) => entry.type === "file" && entry.state === "live" && entry.times?.modified);
    const check = async () => {
      const rows = new Map((await stored()).map((row) => [row.path.normalize("NFC"), row.local]));
      // The manifest has the times as mtools shows them: local, without a zone.
      for (const entry of listed) expect(rows.get(pathOf(entry)), entry.path).toBe(entry.times?.modified.slice(0, 19));
    };
    expect(listed.length).toBeGreaterThan(10);
    await check();
    await changeJob(bench.db, jobId, { timeZone: "America/New_York" });
    await check();
  }, 60_000);
});

describe("a narrowed pass", () => {
  it("keeps to its folder, its kinds and its part of the volume, and leaves the rest to another", async () => {
    const { jobId, source } = await jobWith(bench, "ntfs-mbr");
    const volume = source.volumes.find((each) => each.filesystem === "ntfs");
    const id = volume?.id as number;
    const pictures = await run(jobId, id, "file-record", { folder: "/users", kinds: ["pictures"] });
    expect(pictures.length).toBeGreaterThan(5);
    const names = pictures.filter((row) => /\.[a-z0-9]+$/i.test(row.path));
    expect(names.every((row) => row.path.toLowerCase().startsWith("/users/"))).toBe(true);
    expect(names.filter((row) => /\.(docx|txt|pdf|xlsx)$/i.test(row.path))).toEqual([]);
    const part = await run(jobId, id, "file-record", { from: 50, to: 100 });
    const { rows } = await bench.pool.query<{ first_at: string }>(
      "select c.first_at from copies c join passes p on p.id = c.pass_id where p.job_id = $1 and p.options ? 'from' and c.type = 'file'",
      [jobId],
    );
    expect(part.length).toBeGreaterThan(0);
    // A whole pass after narrowed ones adds the rest, and nothing twice.
    await run(jobId, id, "file-record");
    const { rows: twice } = await bench.pool.query(
      "select reference, name, item_id from copies where job_id = $1 and item_id is not null group by 1, 2, 3 having count(*) > 1",
      [jobId],
    );
    expect(twice).toEqual([]);
    const expected = copiesAt(imageSource("ntfs-mbr"), volume?.offset ?? 0).filter(isItem);
    const { rows: all } = await bench.pool.query<{ count: number }>(
      "select count(*)::int as count from copies where job_id = $1 and item_id is not null",
      [jobId],
    );
    expect(all[0]?.count).toBe(expected.length);
    const middle = (volume?.offset ?? 0) + (volume?.length ?? 0) / 2;
    expect(rows.every((row) => Number(row.first_at) >= Math.floor(middle))).toBe(true);
  }, 60_000);
});

describe("an encrypted volume", () => {
  it("is said to be one when the source is added, and no pass is started on it", async () => {
    const bytes = fixture("fat16.img.gz");
    bytes.write("-FVE-FS-", 3, "latin1");
    const path = join(bench.sources, "closed.img");
    writeFileSync(path, bytes);
    const jobId = await createJob(bench.db, { title: "Closed", client: "" });
    await addSource(bench.db, jobId, path);
    const [source] = await listSources(bench.db, jobId);
    expect(source?.volumes[0]).toMatchObject({ readable: false, closed: expect.stringContaining("encrypted") });
    await expect(startPass(bench.db, jobId, source?.volumes[0]?.id as number)).rejects.toThrow("Ask the client for the key");
  });
});

import { createHash } from "node:crypto";
import { writeFileSync } from "node:fs";
import { join } from "node:path";
import { afterAll, beforeAll, beforeEach, describe, expect, it } from "vitest";
import { readBytes } from "../../core/bytes/byte-source";
import { itemQuery } from "../../server/items/contract";
import { listItems } from "../../server/items/list";
import { findItem } from "../../server/items/queries";
import { createJob } from "../../server/jobs/commands";
import { startPass } from "../../server/passes/commands";
import { listPasses } from "../../server/passes/queries";
import { dropPieces, keepPieces, lookLongerFor } from "../../server/pieces/keep";
import { lookAtPieces, pictureOfPieces } from "../../server/pieces/pieces";
import { storedCopy, withContent } from "../../server/previews/content";
import { addSource } from "../../server/sources/commands";
import { listSources } from "../../server/sources/queries";
import { changeTray } from "../../server/tray/commands";
import { jobWith, startTestBench, type TestBench, until } from "../support/bench";
import { carveImage, type PlacedFile } from "../support/lab-files";
import { diskWithFarPiece, FAR_AWAY } from "../support/pieces-disk";

let bench: TestBench;
beforeAll(async () => {
  bench = await startTestBench();
});
afterAll(() => bench.close());

const CLUSTER = 4096;
const query = (change: object) => itemQuery.parse({ limit: 100, show: "all", ...change });
const sha256 = (bytes: Uint8Array) => createHash("sha256").update(bytes).digest("hex");

/** Truth: files made by general tools, as the manifest of the image without a file system has them. */
const { bytes, files } = carveImage();
const contentOf = ({ extents }: PlacedFile) => Buffer.concat(extents.map(([, at, length]) => bytes.subarray(at, at + length)));
const png = contentOf(
  files.find(({ kind, size, state }) => kind === "png" && size > 50_000 && !state.startsWith("truncated")) as PlacedFile,
);
const cut = Math.floor(png.length / CLUSTER / 2) * CLUSTER;

/** A job whose disk was swept: a picture in two pieces, the second farther away than a sweep looks. */
async function sweptJob(name: string, disk = diskWithFarPiece(png, cut, CLUSTER)): Promise<{ jobId: number; storeId: number }> {
  const path = join(bench.sources, `${name}.img`);
  writeFileSync(path, disk);
  const jobId = await createJob(bench.db, { title: name, client: "" });
  await addSource(bench.db, jobId, path);
  const [source] = await listSources(bench.db, jobId);
  const storeId = source?.volumes[0]?.id as number;
  await startPass(bench.db, jobId, storeId, "raw");
  const worker = bench.worker();
  await until(async () => (await listPasses(bench.db, jobId)).every(({ state }) => state === "done"), 60);
  worker.kill("SIGKILL");
  return { jobId, storeId };
}

const broken = async (jobId: number) => {
  const { items } = await listItems(bench.db, jobId, query({ kind: "pictures" }));
  const item = items.find(({ condition }) => condition === "partial");
  if (!item) throw new Error("no picture breaks off");
  return item;
};
const contentSum = async (copyId: number) =>
  withContent(await storedCopy(bench.db, copyId), (content) => sha256(readBytes(content, 0, content.size)));

describe("a picture in two pieces far from each other", () => {
  const right = [
    { at: CLUSTER, length: cut },
    { at: FAR_AWAY, length: 0 },
  ];
  let jobId = 0;
  let copyId = 0;
  let itemId = 0;
  beforeAll(async () => {
    ({ jobId } = await sweptJob("far"));
  });
  beforeEach(async () => {
    const item = await broken(jobId).catch(() => null);
    if (item) [itemId, copyId] = [item.id, item.bestCopyId];
  });

  it("shows where it breaks off, and what other pieces would come to, and stores nothing by that", async () => {
    const now = await lookAtPieces(bench.db, copyId, null);
    expect(now).toMatchObject({ format: "PNG picture", picture: true, opens: false, sized: false, searchable: true });
    expect(now.breaks?.at).toBeGreaterThan(0);
    expect(now.grid).toMatchObject({ cluster: CLUSTER, from: 0 });
    const then = await lookAtPieces(bench.db, copyId, right);
    expect(then).toMatchObject({ breaks: null, opens: true, condition: "whole", size: png.length });
    expect(then.pieces).toEqual([right[0], { at: FAR_AWAY, length: png.length - cut }]);
    expect(Buffer.from(then.seams[0]?.before ?? "", "base64")).toEqual(png.subarray(cut - 32, cut));
    expect(Buffer.from(then.seams[0]?.behind ?? "", "base64")).toEqual(png.subarray(cut, cut + 32));
    expect((await pictureOfPieces(bench.db, copyId, right)).subarray(8, 12).toString()).toBe("WEBP");
    expect((await findItem(bench.db, itemId))?.list).toHaveLength(1);
  });

  it("refuses pieces outside the disk in words", async () => {
    for (const pieces of [
      [{ at: 2 ** 40, length: 0 }],
      [
        { at: 0, length: 2 ** 40 },
        { at: 4096, length: 0 },
      ],
    ])
      await expect(lookAtPieces(bench.db, copyId, pieces)).rejects.toMatchObject({ name: "Problem", status: 409 });
    await expect(keepPieces(bench.db, copyId, [{ at: 2 ** 40, length: 0 }])).rejects.toMatchObject({ status: 409 });
  });

  it("is kept as a copy of its own, once, becomes the best when it is whole, and is taken away again", async () => {
    const kept = await keepPieces(bench.db, copyId, right);
    expect(kept).toMatchObject({ itemId, words: expect.stringMatching(/in 2 pieces: whole/) });
    expect(await contentSum(kept.copyId as number)).toBe(sha256(png));
    const item = await findItem(bench.db, itemId);
    expect(item).toMatchObject({ condition: "whole", size: png.length, bestCopyId: kept.copyId, copies: 2 });
    expect(item?.list.find(({ id }) => id === kept.copyId)?.evidence.laid).toBe("by-hand");
    expect(item?.list.find(({ id }) => id === kept.copyId)?.notes.join(" ")).toMatch(/laid by hand/);
    expect(await keepPieces(bench.db, copyId, right)).toMatchObject({ copyId: kept.copyId, words: /there already/ });
    // What a pass has found stays; what was laid goes, out of the tray too.
    await expect(dropPieces(bench.db, copyId)).rejects.toMatchObject({ status: 409 });
    await changeTray(bench.db, jobId, { copies: [kept.copyId as number], chosen: true });
    await dropPieces(bench.db, kept.copyId as number);
    expect(await findItem(bench.db, itemId)).toMatchObject({ condition: "partial", bestCopyId: copyId, copies: 1 });
    const { rows } = await bench.pool.query("select 1 from tray_entries where copy_id = $1", [kept.copyId]);
    expect(rows).toHaveLength(0);
    await expect(dropPieces(bench.db, kept.copyId as number)).rejects.toMatchObject({ status: 404 });
  });

  it("keeps its place among the copies when it comes to nothing better: partial stays partial", async () => {
    const kept = await keepPieces(bench.db, copyId, [
      { at: CLUSTER, length: cut },
      { at: FAR_AWAY + CLUSTER, length: 0 },
    ]);
    expect(kept.words).toMatch(/still partial/);
    expect((await findItem(bench.db, itemId))?.condition).toBe("partial");
    await dropPieces(bench.db, kept.copyId as number);
  });

  it("is found by a longer look, which says so where there is nothing to find", async () => {
    const found = await lookLongerFor(bench.db, copyId);
    expect(await contentSum(found.copyId as number)).toBe(sha256(png));
    const item = await findItem(bench.db, itemId);
    expect(item).toMatchObject({ condition: "whole", bestCopyId: found.copyId });
    expect(item?.list.find(({ id }) => id === found.copyId)?.evidence.laid).toBe("longer-look");
    const { rows } = await bench.pool.query<{ what: string }>("select what from log_entries where job_id = $1", [jobId]);
    expect(rows.map(({ what }) => what)).toEqual(
      expect.arrayContaining(["Pieces laid by hand", "Laid copy taken away", "Pieces found by a longer look"]),
    );
    await dropPieces(bench.db, found.copyId as number);
  });

  it("is put together by a sweep that looks longer, beside what the usual one gave", async () => {
    const [source] = await listSources(bench.db, jobId);
    await startPass(bench.db, jobId, source?.volumes[0]?.id as number, "raw", { longer: true });
    const worker = bench.worker();
    await until(async () => (await listPasses(bench.db, jobId)).every(({ state }) => state === "done"), 60);
    worker.kill("SIGKILL");
    const item = await findItem(bench.db, itemId);
    expect(item).toMatchObject({ condition: "whole", size: png.length, copies: 2 });
    expect(await contentSum(item?.bestCopyId as number)).toBe(sha256(png));
  });
});

describe("a picture of which only the beginning is there", () => {
  it("is looked for in vain, which says no more than that, and keeps nothing", async () => {
    const { jobId } = await sweptJob("cut", diskWithFarPiece(png.subarray(0, cut), cut, CLUSTER));
    const item = await broken(jobId);
    const looked = await lookLongerFor(bench.db, item.bestCopyId);
    expect(looked).toMatchObject({
      copyId: null,
      itemId: item.id,
      words: expect.stringMatching(/No pieces were found.*may lie farther away/),
    });
    expect((await findItem(bench.db, item.id))?.list).toHaveLength(1);
    const { rows } = await bench.pool.query<{ detail: object }>(
      "select detail from log_entries where job_id = $1 and what = 'Longer look for pieces'",
      [jobId],
    );
    expect(rows[0]?.detail).toMatchObject({ found: false });
  });
});

describe("a deleted file whose record says its size", () => {
  it("is laid with just that size, and bytes that other files use now are none of its own", async () => {
    const { jobId, source } = await jobWith(bench, "fat16");
    const volume = source.volumes.find(({ filesystem }) => filesystem === "fat16");
    await startPass(bench.db, jobId, volume?.id as number);
    const worker = bench.worker();
    await until(async () => (await listPasses(bench.db, jobId)).every(({ state }) => state === "done"), 60);
    worker.kill("SIGKILL");
    const { rows } = await bench.pool.query<{ id: string; item_id: string; size: string; first_at: string }>(
      "select id, item_id, size, first_at from copies where job_id = $1 and state = 'deleted' and size > 9000 and layout is not null and span is null and item_id is not null order by size desc limit 1",
      [jobId],
    );
    const live = await bench.pool.query<{ first_at: string }>(
      "select first_at from copies where job_id = $1 and state = 'live' and size > 20000 and type = 'file' and first_at is not null order by size desc limit 1",
      [jobId],
    );
    const [row, other] = [rows[0], live.rows[0]];
    if (!row || !other) throw new Error("the volume has no such files");
    const [id, at, size] = [Number(row.id), Number(row.first_at), Number(row.size)];
    const look = await lookAtPieces(bench.db, id, null);
    expect(look).toMatchObject({ sized: true, size });
    const { cluster } = look.grid;
    const over = await keepPieces(bench.db, id, [
      { at, length: cluster },
      { at: Number(other.first_at), length: 0 },
    ]);
    const copy = (await findItem(bench.db, Number(row.item_id)))?.list.find((each) => each.id === over.copyId);
    expect(copy).toMatchObject({ size, condition: "partial" });
    expect(copy?.evidence.usedByOthers).toBeGreaterThan(0);
    expect(copy?.evidence.laid).toBe("by-hand");
  });

  it("of a folder of this computer, and of a live file, has no pieces to lay", async () => {
    const { rows } = await bench.pool.query<{ id: string }>("select id from copies where layout is null limit 1");
    if (rows[0]) await expect(lookAtPieces(bench.db, Number(rows[0].id), null)).rejects.toMatchObject({ status: 409 });
    await expect(lookAtPieces(bench.db, 2 ** 40, null)).rejects.toMatchObject({ status: 404 });
  });
});

import { mkdirSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import { Document, Packer, Paragraph } from "docx";
import sharp from "sharp";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { itemQuery } from "../../server/items/contract";
import { listItems } from "../../server/items/list";
import { findItem } from "../../server/items/queries";
import { createJob } from "../../server/jobs/commands";
import { startPass } from "../../server/passes/commands";
import { listPasses } from "../../server/passes/queries";
import { addSource } from "../../server/sources/commands";
import { listSources } from "../../server/sources/queries";
import { startTestBench, type TestBench, until } from "../support/bench";

let bench: TestBench;
let jobId: number;

/** A picture as a camera would write it. The tool: sharp, which is the platform's usual library for pictures. */
const photo = (taken: string, hue: number, quality: number, camera = "LX-7") =>
  sharp({ create: { width: 320, height: 240, channels: 3, background: { r: hue, g: 90, b: 140 } } })
    .jpeg({ quality })
    .withExif({ IFD0: { Make: "Lumora", Model: camera }, IFD2: { DateTimeOriginal: taken } })
    .toBuffer();

/** A document with a title of its own. The tool: docx. */
const paper = (title: string, words: string) =>
  Packer.toBuffer(new Document({ title, sections: [{ children: [new Paragraph(words)] }] })) as Promise<Buffer>;

const query = (change: object) => itemQuery.parse({ show: "all", limit: 500, ...change });

beforeAll(async () => {
  bench = await startTestBench();
  const folder = join(bench.sources, "documents");
  mkdirSync(folder);
  const keep = (name: string, bytes: Uint8Array) => writeFileSync(join(folder, name), bytes);
  keep("IMG_0017.JPG", await photo("2024:05:03 14:22:10", 200, 60));
  keep("IMG_0020.JPG", await photo("2024:05:04 09:00:00", 20, 60));
  keep("IMG_0021.JPG", await photo("2024:05:04 09:00:00", 60, 60));
  keep("Plan.docx", await paper("Plan for the new dome", "The final state of the plan."));
  keep("Minutes.docx", await paper("Minutes", "Minutes of June."));
  keep("Minutes (2).docx", await paper("Minutes", "Minutes of July."));

  // Content that no record knows: an image with other states of the same files.
  const image = new Uint8Array(1 << 22);
  let at = 65_536;
  for (const bytes of [
    await photo("2024:05:03 14:22:10", 200, 90),
    await photo("2024:05:04 09:00:00", 20, 90),
    await photo("2024:05:03 14:22:10", 200, 90, "LX-9"),
    await paper("Plan for the new dome", "An earlier state of the plan, with more about the money."),
    await paper("Minutes", "Minutes of May, which nobody kept."),
  ]) {
    image.set(bytes, at);
    at += 65_536 * 2;
  }
  const path = join(bench.sources, "bare.img");
  writeFileSync(path, image);
  jobId = await createJob(bench.db, { title: "Known by content", client: "" });
  await addSource(bench.db, jobId, folder);
  await addSource(bench.db, jobId, path);
  const sources = await listSources(bench.db, jobId);
  const worker = bench.worker();
  const passed = () => until(async () => (await listPasses(bench.db, jobId)).every((pass) => pass.state === "done"), 60);
  await startPass(bench.db, jobId, sources.find(({ container }) => container === "folder")?.volumes[0]?.id as number);
  await passed();
  await startPass(bench.db, jobId, sources.find(({ container }) => container !== "folder")?.volumes[0]?.id as number, "raw");
  await passed();
  await until(async () => (await bench.pool.query("select 1 from copies where job_id = $1 and facts is null", [jobId])).rowCount === 0, 30);
  // What is left to do is done when nothing waits any more.
  await until(async () => (await bench.pool.query("select 1 from graphile_worker.jobs")).rowCount === 0, 30);
  worker.kill("SIGKILL");
}, 120_000);
afterAll(() => bench.close());

describe("what content says about itself", () => {
  it("is kept of files that have their names as well", async () => {
    const { items } = await listItems(bench.db, jobId, query({}));
    expect(items.find(({ name }) => name === "IMG_0017.JPG")?.facts).toMatchObject({
      taken: Date.UTC(2024, 4, 3, 14, 22, 10),
      camera: "Lumora LX-7",
      width: 320,
      height: 240,
    });
    expect(items.find(({ name }) => name === "Plan.docx")?.facts).toMatchObject({ title: "Plan for the new dome" });
  });

  it("ties nameless content to the one file it says it is", async () => {
    const { items } = await listItems(bench.db, jobId, query({}));
    const copiesOf = async (name: string) => (await findItem(bench.db, items.find((item) => item.name === name)?.id ?? 0))?.list ?? [];
    const picture = await copiesOf("IMG_0017.JPG");
    expect(picture.map(({ place }) => place).sort()).toEqual(["file-record", "raw"]);
    expect(picture.find(({ place }) => place === "raw")?.notes.join(" ")).toMatch(/taken at the same moment, with the same camera/);
    const plan = await copiesOf("Plan.docx");
    expect(plan.map(({ place }) => place).sort()).toEqual(["file-record", "raw"]);
    expect(plan.find(({ place }) => place === "raw")?.notes.join(" ")).toMatch(/its title is the same: it may be another state/);
  });

  it("ties nothing where more than one file is meant, or another camera", async () => {
    const { items } = await listItems(bench.db, jobId, query({ place: "raw" }));
    expect(items.map(({ name }) => name).sort()).toEqual([
      "2024-05-03 14-22-10 Lumora LX-9.jpg",
      "2024-05-04 09-00-00 Lumora LX-7.jpg",
      "IMG_0017.JPG",
      "Minutes.docx",
      "Plan.docx",
    ]);
    for (const name of ["IMG_0020.JPG", "IMG_0021.JPG", "Minutes (2).docx"]) {
      const { items: found } = await listItems(bench.db, jobId, query({}));
      expect(found.find((item) => item.name === name)?.copies).toBe(1);
    }
  });
});

import { mkdirSync, readFileSync, writeFileSync } from "node:fs";
import { basename, dirname, join } from "node:path";
import { buffer } from "node:stream/consumers";
import { gzipSync } from "node:zlib";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import yazl from "yazl";
import { startRestore } from "../../server/restores/commands";
import { rehearse } from "../../server/restores/rehearsal";
import { changeTray } from "../../server/tray/commands";
import { readFolder, startTestBench, type TestBench, until } from "../support/bench";
import { endedRestore, planTo, type WholeRestore } from "../support/restores";
import { unzipped } from "../support/unzipped";

let bench: TestBench;
let jobId: number;
const members = { "letter.txt": "the letter\n".repeat(200), "list.csv": "a,b\n".repeat(300) };

/** An archive as a general library writes it. */
async function archive(): Promise<Buffer> {
  const zip = new yazl.ZipFile();
  for (const [name, text] of Object.entries(members)) zip.addBuffer(Buffer.from(text), name);
  zip.end();
  return buffer(zip.outputStream);
}

beforeAll(async () => {
  bench = await startTestBench();
  const folder = join(bench.sources, "damaged");
  mkdirSync(folder);
  const whole = await archive();
  writeFileSync(join(folder, "whole.zip"), whole);
  // Its list of contents is gone.
  writeFileSync(join(folder, "cut.zip"), whole.subarray(0, whole.indexOf("PK\x01\x02")));
  // Broken off in the midst of what is packed.
  writeFileSync(
    join(folder, "log.txt.gz"),
    gzipSync(Buffer.from("line of a log\n".repeat(9000).replace(/line/g, () => `line ${Math.random()}`))).subarray(0, 60_000),
  );
  // Nothing of it is what its name says.
  writeFileSync(join(folder, "gone.pdf"), Buffer.concat([Buffer.from("%PDF-1.4\n"), Buffer.alloc(3000, 7)]));
  writeFileSync(join(folder, "plain.txt"), "sound\n");
  ({ jobId } = await readFolder(bench, folder, "Damaged files"));
  bench.worker();
  await changeTray(bench.db, jobId, { everything: true, chosen: true });
  await until(async () => (await rehearse(bench.db, jobId, planTo("x"))).unopened >= 3);
}, 120_000);
afterAll(() => bench.close());

async function restored(destination: string, repaired: boolean): Promise<WholeRestore> {
  await changeTray(bench.db, jobId, { everything: true, chosen: true });
  return endedRestore(bench.db, jobId, await startRestore(bench.db, jobId, planTo(destination, { repaired })));
}
const named = (restore: WholeRestore, name: string) => restore.results.find(({ output }) => output && basename(output) === name);

describe("what does not open", () => {
  it("is written as it is, and repaired beside it where that was wished and can be done", async () => {
    const wished = planTo("Repaired", { repaired: true });
    const { files, unopened } = await rehearse(bench.db, jobId, wished);
    const made = files.filter(({ stream }) => stream === -2);
    expect(made).toHaveLength(unopened);
    expect(made.map(({ target }) => basename(target))).toContain("cut (repaired).zip");
    // A first file whose name is taken gets a number, and its repaired form goes by that.
    const first = files.find(({ path, stream }) => stream === null && path.endsWith("cut.zip"))?.target as string;
    mkdirSync(dirname(first), { recursive: true });
    writeFileSync(first, "in the way");
    const done = await restored("Repaired", true);
    expect(done.counts.files).toBe(5 + unopened);
    expect(done.counts.failed).toBe(0);
    const cut = named(done, "cut (2) (repaired).zip");
    expect(cut).toMatchObject({ state: "verified", problem: expect.stringMatching(/^Repaired: /) });
    const bytes = readFileSync(cut?.output as string);
    expect(cut?.size).toBe(bytes.length);
    // An independent reader opens it now, and its members are what they were.
    const found = await unzipped(bytes);
    for (const [name, text] of Object.entries(members)) expect(found.get(name)?.toString()).toBe(text);
    await expect(unzipped(readFileSync(named(done, "cut (2).zip")?.output as string))).rejects.toThrow();
    // What is unpacked has lost the extension of its package.
    expect(named(done, "log.txt (repaired)")?.state).toBe("verified");
    // What cannot be repaired says so, and is no failure.
    const gone = done.results.filter(({ path, state }) => path.endsWith("gone (repaired).pdf") && state === "skipped");
    expect(gone.map(({ problem }) => problem)).toEqual(["Nothing in it can be repaired here."]);
    expect(done.counts.skipped).toBe(1);
  }, 60_000);

  it("is written as it is alone, where nothing else was wished", async () => {
    const done = await restored("As it is", false);
    expect(done.results.map(({ output }) => basename(output as string)).sort()).toEqual(
      ["cut.zip", "gone.pdf", "log.txt.gz", "plain.txt", "whole.zip"].sort(),
    );
  });
});

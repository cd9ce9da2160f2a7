import { spawnSync } from "node:child_process";
import { mkdirSync, readFileSync, writeFileSync } from "node:fs";
import { join, relative } from "node:path";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { startRestore } from "../../server/restores/commands";
import { changeTray } from "../../server/tray/commands";
import { readFolder, startTestBench, type TestBench } from "../support/bench";
import { endedRestore, planTo } from "../support/restores";

let bench: TestBench;
beforeAll(async () => {
  bench = await startTestBench();
});
afterAll(() => bench.close());

describe("a file and a folder of one name, as an archive has them that was added to", () => {
  it("are both restored, with all that is in the folder", async () => {
    const [before, after] = ["before", "after"].map((name) => join(bench.sources, "made", name)) as [string, string];
    const archive = join(bench.sources, "added to.tar");
    const tar = (args: readonly string[]) => expect(spawnSync("tar", ["-f", archive, ...args]).status).toBe(0);
    mkdirSync(before, { recursive: true });
    writeFileSync(join(before, "notes"), "one file");
    tar(["-c", "-C", before, "notes"]);
    mkdirSync(join(after, "notes", "older"), { recursive: true });
    for (const path of ["notes/March.txt", "notes/April.txt", "notes/older/May.txt"]) writeFileSync(join(after, path), path);
    tar(["-r", "-C", after, "notes/March.txt", "notes/April.txt", "notes/older/May.txt"]);
    const { jobId, items } = await readFolder(bench, archive, "Added to");
    expect(items).toHaveLength(4);
    await changeTray(bench.db, jobId, { items: items.map(({ id }) => id), chosen: true });
    const id = await startRestore(bench.db, jobId, planTo("Both"));
    const worker = bench.worker();
    const { results, root } = await endedRestore(bench.db, jobId, id);
    worker.kill("SIGKILL");
    expect(results.map(({ state }) => state)).toEqual(Array(4).fill("verified"));
    const contents = results.map(({ output }) => readFileSync(output as string, "utf8"));
    expect(contents.sort()).toEqual(["notes/April.txt", "notes/March.txt", "notes/older/May.txt", "one file"]);
    const folders = new Set(results.map(({ output }) => relative(root, output as string).replace(/\/?[^/]*$/, "")));
    // All that lay in the folder lies in one still.
    expect(folders.size).toBe(3);
  });
});

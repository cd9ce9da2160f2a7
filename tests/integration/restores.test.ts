import { createHash } from "node:crypto";
import { mkdirSync, readdirSync, readFileSync, statSync, symlinkSync, unlinkSync, writeFileSync } from "node:fs";
import { basename, dirname, join } from "node:path";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { itemQuery } from "../../server/items/contract";
import { listItems } from "../../server/items/list";
import { changePass, startPass } from "../../server/passes/commands";
import { listPasses } from "../../server/passes/queries";
import { retryRestore, startRestore } from "../../server/restores/commands";
import type { RestorePlan, Result } from "../../server/restores/contract";
import { archiveOf, fileOf } from "../../server/restores/downloads";
import { rehearse } from "../../server/restores/rehearsal";
import { listSources } from "../../server/sources/queries";
import { changeTray } from "../../server/tray/commands";
import { findTray } from "../../server/tray/queries";
import { jobWith, searchedJob, startTestBench, type TestBench, until } from "../support/bench";
import { endedRestore, planTo, wholeRestore } from "../support/restores";
import { readSlowly, unzipped } from "../support/unzipped";
import { pathOf, readTruth } from "../support/volume-truth";

let bench: TestBench;
let jobId: number;

beforeAll(async () => {
  bench = await startTestBench();
  jobId = await searchedJob(bench, "ntfs-gpt");
});
afterAll(() => bench.close());

const plan = (destination: string, conflict: RestorePlan["conflict"] = "keep-both"): RestorePlan => planTo(destination, { conflict });
const restoreOf = (id: number) => wholeRestore(bench.db, jobId, id);
const finished = (id: number) => endedRestore(bench.db, jobId, id);
const filesBelow = (folder: string): string[] =>
  readdirSync(folder, { recursive: true, withFileTypes: true })
    .filter((entry) => entry.isFile())
    .map((entry) => join(entry.parentPath, entry.name));
const sha256 = (path: string) => createHash("sha256").update(readFileSync(path)).digest("hex");

describe("a restore", () => {
  it("writes every file once though its worker is killed, with the bytes the file-system driver had", async () => {
    const lost = (await listItems(bench.db, jobId, itemQuery.parse({ limit: 400, condition: "whole" }))).items;
    await changeTray(bench.db, jobId, { items: lost.map((item) => item.id), chosen: true });
    const id = await startRestore(bench.db, jobId, plan("After a crash"));
    for (let kill = 1; kill <= 2; kill += 1) {
      const worker = bench.worker();
      const settled = async () => (await restoreOf(id)).results.filter((result) => result.state === "verified").length;
      const before = await settled();
      await until(async () => (await settled()) > before + 2);
      worker.kill("SIGKILL");
    }
    expect((await restoreOf(id)).state).toBe("running");
    bench.worker();
    const { results, root } = await finished(id);
    expect(results).toHaveLength(lost.length);
    expect(results.filter((result) => result.state !== "verified")).toEqual([]);
    const files = filesBelow(root);
    expect(files.sort()).toEqual(results.map((result) => result.output as string).sort());
    for (const result of results) expect(sha256(result.output as string)).toBe(result.sha256);
    const truth = new Map(
      readTruth("ntfs-gpt")
        .entries.filter((entry) => entry.state === "deleted-intact")
        .map((entry) => [pathOf(entry), entry.sha256]),
    );
    const known = results.filter((result) => truth.has(result.path.normalize("NFC")));
    expect(known.length).toBeGreaterThan(50);
    for (const result of known) expect(result.sha256, result.path).toBe(truth.get(result.path.normalize("NFC")));
  }, 180_000);

  it("keeps, skips or replaces what is already there, as asked", async () => {
    const [item] = (await listItems(bench.db, jobId, itemQuery.parse({ limit: 50 }))).items.filter(
      (each) => each.condition === "whole" && each.size > 0,
    );
    await changeTray(bench.db, jobId, { everything: true, chosen: false });
    await changeTray(bench.db, jobId, { items: [item?.id as number], chosen: true });
    const [file] = (await rehearse(bench.db, jobId, plan("Conflicts"))).files;
    const target = file?.target as string;
    mkdirSync(dirname(target), { recursive: true });
    writeFileSync(target, "today's good version");
    expect((await rehearse(bench.db, jobId, plan("Conflicts"))).files[0]?.exists?.size).toBe(20);
    const skipped = await finished(await startRestore(bench.db, jobId, plan("Conflicts", "skip")));
    expect(skipped.results[0]?.state).toBe("skipped");
    const again = () => changeTray(bench.db, jobId, { items: [item?.id as number], chosen: true });
    const kept = await finished(await startRestore(bench.db, jobId, plan("Conflicts", "keep-both")));
    expect(kept.results[0]?.output).not.toBe(target);
    expect(readFileSync(target, "utf8")).toBe("today's good version");
    // What was written has left the tray.
    expect((await findTray(bench.db, jobId)).count).toBe(0);
    await again();
    const replaced = await finished(await startRestore(bench.db, jobId, plan("Conflicts", "replace")));
    expect(sha256(target)).toBe(replaced.results[0]?.sha256);
    // What was replaced is kept beside it.
    expect(readFileSync(replaced.results[0]?.aside as string, "utf8")).toBe("today's good version");
    await again();
    // What is said of a single file goes before what is said of all.
    const one = await finished(
      await startRestore(bench.db, jobId, { ...plan("Conflicts", "replace"), choices: { [String(item?.bestCopyId)]: "skip" } }),
    );
    expect(one.results[0]?.state).toBe("skipped");
  }, 60_000);

  it("is refused on the source's own folder and outside the delivery folder", async () => {
    const delivery = process.env.COMPASS_DELIVERY;
    process.env.COMPASS_DELIVERY = bench.sources;
    expect((await rehearse(bench.db, jobId, plan("here"))).refused).toContain("lies beside the source");
    await expect(startRestore(bench.db, jobId, plan("here"))).rejects.toThrow("lies beside the source");
    process.env.COMPASS_DELIVERY = delivery;
    symlinkSync("/tmp", join(bench.delivery, "elsewhere"));
    expect((await rehearse(bench.db, jobId, plan("elsewhere"))).refused).toContain("outside the delivery folder");
    expect((await rehearse(bench.db, jobId, plan("../../up"))).root.startsWith(bench.delivery)).toBe(true);
  });

  it("reports what failed and tries it again", async () => {
    const [item] = (await listItems(bench.db, jobId, itemQuery.parse({ limit: 1, condition: "whole" }))).items;
    await changeTray(bench.db, jobId, { everything: true, chosen: false });
    await changeTray(bench.db, jobId, { items: [item?.id as number], chosen: true });
    const [file] = (await rehearse(bench.db, jobId, plan("Blocked"))).files;
    // A file stands where a folder has to be made.
    const folder = dirname(file?.target as string);
    mkdirSync(dirname(folder), { recursive: true });
    writeFileSync(folder, "in the way");
    const id = await startRestore(bench.db, jobId, plan("Blocked"));
    const first = await finished(id);
    expect(first.results[0]?.state).toBe("failed");
    expect(first.results[0]?.problem).toContain("in the way");
    unlinkSync(folder);
    await retryRestore(bench.db, id);
    const second = await finished(id);
    expect(second.results[0]?.state).toBe("verified");
    expect(statSync(second.results[0]?.output as string).size).toBe(second.results[0]?.size);
  }, 60_000);

  it("is given out as one ZIP and file by file: what was verified, and nothing that was put in its place since", async () => {
    const chosen = (await listItems(bench.db, jobId, itemQuery.parse({ limit: 400, condition: "whole" }))).items
      .filter((each) => each.size > 0)
      .slice(0, 12);
    await changeTray(bench.db, jobId, { everything: true, chosen: false });
    await changeTray(bench.db, jobId, { items: chosen.map((item) => item.id), chosen: true });
    const { id, results, root } = await finished(await startRestore(bench.db, jobId, plan("To take along")));
    const entries = await unzipped(await readSlowly(await archiveOf(bench.db, id, "zip")));
    expect(new Map([...entries].map(([name, bytes]) => [join(root, name), createHash("sha256").update(bytes).digest("hex")]))).toEqual(
      new Map(results.map((result) => [result.output, result.sha256])),
    );
    const [first, second, third] = results as [Result, Result, Result];
    const single = await fileOf(bench.db, id, first.id);
    expect(
      createHash("sha256")
        .update(Buffer.from(await single.arrayBuffer()))
        .digest("hex"),
    ).toBe(first.sha256);
    expect(decodeURIComponent(single.headers.get("Content-Disposition") ?? "")).toContain(basename(first.output as string));
    expect(single.headers.get("Content-Length")).toBe(String(first.size));
    // Gone, or a link to something else: neither is followed.
    unlinkSync(first.output as string);
    unlinkSync(second.output as string);
    symlinkSync("/etc/hostname", second.output as string);
    for (const result of [first, second]) await expect(fileOf(bench.db, id, result.id)).rejects.toMatchObject({ status: 404 });
    await expect(fileOf(bench.db, id + 1000, third.id)).rejects.toMatchObject({ status: 404 });
    const left = await unzipped(await readSlowly(await archiveOf(bench.db, id, "zip")));
    // What is left out is reported along with the rest.
    expect(left.get("Remarks.txt")?.toString()).toContain("left out");
    left.delete("Remarks.txt");
    expect(left.size).toBe(results.length - 2);
    // Files that go away while the archive is on its way end it with an error; it is never left waiting, nor given as if it were whole.
    const cut = await archiveOf(bench.db, id, "zip");
    for (const result of results.slice(2)) unlinkSync(result.output as string);
    await expect(cut.arrayBuffer()).rejects.toThrow();
    await expect(archiveOf(bench.db, id, "zip")).rejects.toMatchObject({ status: 404 });
  }, 60_000);

  it("of nothing is refused, and one that runs is not tried again meanwhile", async () => {
    await changeTray(bench.db, jobId, { everything: true, chosen: false });
    await expect(startRestore(bench.db, jobId, plan("Nothing"))).rejects.toThrow("The tray is empty");
    await expect(retryRestore(bench.db, 999_999)).rejects.toMatchObject({ status: 404 });
    const [item] = (await listItems(bench.db, jobId, itemQuery.parse({ limit: 1 }))).items;
    await changeTray(bench.db, jobId, { items: [item?.id as number], chosen: true });
    const id = await startRestore(bench.db, jobId, plan("Twice"));
    // Meanwhile it may have ended: then it is tried again, and that is well.
    const refused = await retryRestore(bench.db, id).then(
      () => null,
      (error: { status?: number }) => error.status,
    );
    if (refused !== null) expect(refused).toBe(409);
    await finished(id);
  }, 60_000);

  it("from a drive that is not there any more, or has another in its place, writes nothing and says so; nor is it read on", async () => {
    const { jobId: own, source } = await jobWith(bench, "fat12");
    const storeId = source.volumes[0]?.id as number;
    await startPass(bench.db, own, storeId);
    await until(async () => (await listPasses(bench.db, own))[0]?.state === "done");
    const [item] = (await listItems(bench.db, own, itemQuery.parse({ limit: 1, show: "all", condition: "whole" }))).items;
    await changeTray(bench.db, own, { items: [item?.id as number], chosen: true });
    // What stands at the drive's path now is no such drive.
    await bench.pool.query("update sources set container = 'drive' where id = $1", [source.id]);
    expect((await listSources(bench.db, own))[0]?.connected).toBe(false);
    const id = await startRestore(bench.db, own, plan("From elsewhere"));
    const restore = await endedRestore(bench.db, own, id);
    expect(restore.results).toMatchObject([
      { state: "failed", problem: expect.stringContaining("another one is in its place"), output: null },
    ]);
    const pass = await startPass(bench.db, own, storeId, "leftover-record");
    const failed = await until(async () => {
      const found = (await listPasses(bench.db, own)).find((each) => each.id === pass);
      return found?.state === "failed" && found;
    });
    expect(failed.problem).toContain("Connect it and go on");
    // Connected again, both go on.
    await bench.pool.query("update sources set container = 'raw' where id = $1", [source.id]);
    await changePass(bench.db, pass, "run");
    await retryRestore(bench.db, id);
    await until(async () => (await listPasses(bench.db, own)).every((each) => each.state === "done"));
    expect((await endedRestore(bench.db, own, id)).results.every((result) => result.state === "verified")).toBe(true);
  }, 60_000);
});

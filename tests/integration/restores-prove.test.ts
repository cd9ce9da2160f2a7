import { createHash } from "node:crypto";
import { existsSync, readdirSync, readFileSync, rmSync, statSync, utimesSync, writeFileSync } from "node:fs";
import { basename, dirname, join } from "node:path";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { runTask } from "../../server/content/pool";
import { type Item, itemQuery } from "../../server/items/contract";
import { listItems } from "../../server/items/list";
import { findItem } from "../../server/items/queries";
import { createJob } from "../../server/jobs/commands";
import { findJob } from "../../server/jobs/queries";
import { startPass } from "../../server/passes/commands";
import { listPasses } from "../../server/passes/queries";
import { proveRestore, retryRestore, startRestore } from "../../server/restores/commands";
import { archiveOf } from "../../server/restores/downloads";
import { listRestores, listResults } from "../../server/restores/queries";
import { rehearse } from "../../server/restores/rehearsal";
import { lookAtRestored } from "../../server/restores/since";
import { surveyTargets } from "../../server/restores/survey";
import { addSource, rereadSource } from "../../server/sources/commands";
import { listSources } from "../../server/sources/queries";
import { changeTray } from "../../server/tray/commands";
import { searchedJob, startTestBench, type TestBench, until } from "../support/bench";
import { dynamicVhd } from "../support/dynamic-vhd";
import { endedRestore, planTo } from "../support/restores";
import { smallDisk } from "../support/small-disk";
import { readSlowly, unzipped } from "../support/unzipped";
import { fixture, pathOf, readTruth } from "../support/volume-truth";

let bench: TestBench;
let jobId: number;
const sha256 = (bytes: Uint8Array) => createHash("sha256").update(bytes).digest("hex");

beforeAll(async () => {
  bench = await startTestBench();
  jobId = await searchedJob(bench, "ntfs-gpt");
  bench.worker();
});
afterAll(() => bench.close());

const items = async (query: Record<string, unknown>): Promise<Item[]> => (await listItems(bench.db, jobId, itemQuery.parse(query))).items;
async function choose(ids: readonly number[]): Promise<void> {
  await changeTray(bench.db, jobId, { everything: true, chosen: false });
  await changeTray(bench.db, jobId, { items: [...ids], chosen: true });
}
const restored = async (destination: string, facts: Parameters<typeof planTo>[1] = {}) =>
  endedRestore(bench.db, jobId, await startRestore(bench.db, jobId, planTo(destination, facts)));

describe("a file that is not all its own", () => {
  it("is written with gaps, which are reported byte for byte, and zeros stand in them unless other bytes were asked for", async () => {
    const first = jobId;
    jobId = await searchedJob(bench, "ntfs-mbr");
    const partial = (await items({ limit: 200, condition: "partial" })).filter((item) => item.survival > 0 && item.survival < 1);
    const truth = new Map(readTruth("ntfs-mbr").entries.map((entry) => [pathOf(entry), entry]));
    await choose(partial.map((item) => item.id));
    const ahead = await rehearse(bench.db, jobId, planTo("Gaps"));
    const clean = await restored("Gaps");
    const gapped = clean.results.filter((result) => result.state === "gaps");
    expect(gapped.length).toBeGreaterThan(0);
    expect(gapped.length).toBe(ahead.withGaps);
    expect(clean.counts.verified + clean.counts.gaps).toBe(partial.length);
    let known = 0;
    for (const result of gapped) {
      const bytes = readFileSync(result.output as string);
      expect([bytes.length, sha256(bytes)]).toEqual([result.size, result.sha256]);
      const ranges = [...(result.gaps?.unreadable ?? []), ...(result.gaps?.foreign ?? [])];
      expect(ranges.length).toBeGreaterThan(0);
      for (const { start, end } of ranges) expect(bytes.subarray(start, end).every((byte) => byte === 0)).toBe(true);
      // The share that the driver's own cluster lists say is left, in whole clusters of at most 4 KiB.
      const [, share] = /^deleted-partial:(.*)$/.exec(truth.get(result.path.normalize("NFC"))?.state ?? "") ?? [];
      if (share === undefined) continue;
      known += 1;
      const gone = ranges.reduce((sum, { start, end }) => sum + end - start, 0);
      expect(Math.abs(1 - gone / result.size - Number(share)), result.path).toBeLessThanOrEqual(4096 / result.size);
    }
    expect(known).toBeGreaterThan(5);
    // Nothing but the gaps differs from what stands on the disk.
    await choose(partial.map((item) => item.id));
    const asFound = await restored("Gaps as found", { asFound: true });
    for (const result of asFound.results.filter(({ state }) => state === "gaps")) {
      const own = gapped.find((each) => each.copyId === result.copyId);
      const [one, other] = [readFileSync(own?.output as string), readFileSync(result.output as string)];
      for (const { start, end } of [...(result.gaps?.unreadable ?? []), ...(result.gaps?.foreign ?? [])]) other.fill(0, start, end);
      expect(other.equals(one), result.path).toBe(true);
    }
    const summary = (await listRestores(bench.db, jobId)).find(({ id }) => id === clean.id);
    const missing = gapped
      .flatMap(({ gaps }) => [...(gaps?.unreadable ?? []), ...(gaps?.foreign ?? [])])
      .reduce((sum, { start, end }) => sum + end - start, 0);
    expect(summary?.counts).toMatchObject({ gaps: gapped.length, missing });
    expect((await findJob(bench.db, jobId))?.restoredWithGaps).toBeGreaterThanOrEqual(gapped.length);
    const zip = await unzipped(Buffer.from(await (await archiveOf(bench.db, clean.id, "zip")).arrayBuffer()));
    expect(zip.get("Remarks.txt")?.toString()).toContain("has gaps");
    // Those that are there already are no whole ones for that.
    await choose(partial.map((item) => item.id));
    const again = await restored("Gaps", { conflict: "compare" });
    expect(again.counts).toMatchObject({ same: partial.length, sameGaps: gapped.length, gaps: 0, missing });
    expect((await listResults(bench.db, again.id, { after: 0, only: "gaps" })).results).toHaveLength(gapped.length);
    jobId = first;
  }, 60_000);

  it("that cannot be read at all is not written empty, however often it is tried", async () => {
    const [item] = (await items({ limit: 50, condition: "whole" })).filter((each) => each.size > 1000);
    // As a file is stored that is encrypted by the system: its size is known, its content stays closed.
    await bench.pool.query("update copies set layout = null, absent = 'encrypted', condition = 'not-checked' where item_id = $1", [
      item?.id,
    ]);
    await bench.pool.query("update items set condition = 'not-checked' where id = $1", [item?.id]);
    await choose([item?.id as number]);
    expect((await rehearse(bench.db, jobId, planTo("Closed"))).files[0]?.problem).toContain("encrypted");
    const first = await restored("Closed");
    await retryRestore(bench.db, first.id);
    const second = await endedRestore(bench.db, jobId, first.id);
    for (const { results } of [first, second])
      expect(results).toMatchObject([{ state: "failed", output: null, sha256: null, problem: expect.stringContaining("encrypted") }]);
    expect(
      existsSync(second.root) ? readdirSync(second.root, { recursive: true, withFileTypes: true }).filter((entry) => entry.isFile()) : [],
    ).toEqual([]);
  }, 60_000);
});

describe("what is in the tray", () => {
  it("is the copy that was chosen, and several copies of one file stand beside each other by their dates", async () => {
    const [item] = (await items({ limit: 50, condition: "whole" })).filter((each) => each.size > 100 && each.copies === 1);
    const [other] = (await items({ limit: 50, condition: "whole" })).filter(
      (each) => each.size > 100 && each.copies === 1 && each.id !== item?.id,
    );
    // Another version of the same file: other bytes, an earlier date.
    await bench.pool.query(
      "update copies set item_id = $1, name = $3, folder_id = (select folder_id from items where id = $1), modified = '2020-02-03T04:05:00Z' where item_id = $2",
      [item?.id, other?.id, item?.name],
    );
    await bench.pool.query("delete from items where id = $1", [other?.id]);
    const found = await findItem(bench.db, item?.id as number);
    const older = found?.list.find((copy) => !copy.best);
    expect(found?.list).toHaveLength(2);
    expect(found?.list.find((copy) => copy.best)?.reason).not.toBe(older?.reason);
    await changeTray(bench.db, jobId, { everything: true, chosen: false });
    await changeTray(bench.db, jobId, { copies: [older?.id as number], chosen: true });
    const one = await restored("One version");
    expect(one.results.map((result) => result.copyId)).toEqual([older?.id]);
    expect(basename(one.results[0]?.output as string)).toBe(item?.name);
    await changeTray(bench.db, jobId, { copies: (found?.list ?? []).map((copy) => copy.id), chosen: true });
    // The item's own tick means its best copy, which is chosen already.
    await changeTray(bench.db, jobId, { items: [item?.id as number], chosen: true });
    const both = await restored("Both versions");
    expect(both.results.map((result) => result.state)).toEqual(["verified", "verified"]);
    expect(new Set(both.results.map((result) => result.sha256)).size).toBe(2);
    expect(both.results.some((result) => result.output?.includes("(2020-02-03 04.05)"))).toBe(true);
  }, 60_000);

  it("leaves it when it was written, and two presses of one button write it once", async () => {
    const chosen = (await items({ limit: 40, condition: "whole" })).filter((each) => each.size > 0).slice(0, 20);
    await choose(chosen.map((item) => item.id));
    const asked = crypto.randomUUID();
    const plan = { ...planTo("Twice"), asked };
    const [first, second] = await Promise.all([startRestore(bench.db, jobId, plan), startRestore(bench.db, jobId, plan)]);
    expect(second).toBe(first);
    // Another press, which is none of the same button, finds nothing left to write.
    await expect(startRestore(bench.db, jobId, planTo("Twice"))).rejects.toMatchObject({ status: expect.any(Number) });
    const restore = await endedRestore(bench.db, jobId, first);
    expect(restore.counts.verified).toBe(chosen.length);
    const { rows } = await bench.pool.query("select 1 from tray_entries where job_id = $1", [jobId]);
    expect(rows).toHaveLength(0);
    expect(readdirSync(restore.root, { recursive: true, withFileTypes: true }).filter((entry) => entry.isFile())).toHaveLength(
      chosen.length,
    );
  }, 60_000);
});

describe("a result", () => {
  it("is of a moment: what was replaced, changed or removed since says so everywhere", async () => {
    const chosen = (await items({ limit: 60, condition: "whole" })).filter((each) => each.size > 10).slice(20, 25);
    const ids = chosen.map((item) => item.id);
    await choose(ids);
    const first = await restored("Moments");
    const before = (await findJob(bench.db, jobId))?.restored ?? 0;
    const [gone, changed, quiet, replaced, kept] = first.results.map((result) => result.output as string) as [
      string,
      string,
      string,
      string,
      string,
    ];
    rmSync(gone);
    writeFileSync(changed, "something else");
    // The bench's own count follows, though nobody has listed the results.
    await lookAtRestored(bench.db);
    expect((await findJob(bench.db, jobId))?.restored).toBe(before - 2);
    // Other bytes of the same length under the same date: only reading it again finds that out.
    const { mtime } = statSync(quiet);
    const bytes = readFileSync(quiet);
    writeFileSync(
      quiet,
      bytes.map((byte) => byte ^ 0xff),
    );
    utimesSync(quiet, mtime, mtime);
    const target = first.results.find((result) => result.output === replaced);
    await choose([target?.itemId as number]);
    const later = await restored("Moments", { conflict: "replace" });
    expect(later.results[0]).toMatchObject({ output: replaced, state: "verified", since: null });
    const now = async () =>
      new Map((await listResults(bench.db, first.id, { after: 0, only: "all" })).results.map((result) => [result.output, result.since]));
    const seen = await now();
    expect([gone, changed, quiet, replaced, kept].map((path) => seen.get(path))).toEqual(["gone", "changed", null, "replaced", null]);
    await proveRestore(bench.db, first.id);
    await until(async () => (await listRestores(bench.db, jobId)).find(({ id }) => id === first.id)?.provenAt);
    const proven = await now();
    expect([gone, changed, quiet, replaced, kept].map((path) => proven.get(path))).toEqual([
      "gone",
      "changed",
      "changed",
      "replaced",
      null,
    ]);
    expect((await listRestores(bench.db, jobId)).find(({ id }) => id === first.id)?.counts.since).toBe(4);
    // Of the five of then one stands as it was, and the one that took another's place.
    expect((await findJob(bench.db, jobId))?.restored).toBe(before - 4 + 1);
    const zip = await unzipped(await readSlowly(await archiveOf(bench.db, first.id, "zip")));
    expect([...zip.keys()].filter((name) => name !== "Remarks.txt")).toEqual([kept.slice(first.root.length + 1)]);
    expect((await listResults(bench.db, first.id, { after: 0, only: "changed" })).results).toHaveLength(4);
  }, 60_000);
});

describe("names at the destination", () => {
  it("never meet within one restore, whatever is to happen with what was there before", async () => {
    const chosen = (await items({ limit: 60, condition: "whole" })).filter((each) => each.size > 10 && each.copies === 1).slice(30, 33);
    // Names that are one once they can be written anywhere, and names that differ in case alone.
    for (const [index, name] of ["a:b.txt", "a?b.txt", "A_B.txt"].entries())
      await bench.pool.query(
        "update copies set name = $2, folder_id = (select min(folder_id) from items where job_id = $3) where item_id = $1",
        [chosen[index]?.id, name, jobId],
      );
    for (const conflict of ["replace", "skip", "keep-both"] as const) {
      await choose(chosen.map((item) => item.id));
      expect((await surveyTargets(bench.db, jobId, planTo(`Meeting ${conflict}`))).meeting).toBe(2);
      const { results } = await restored(`Meeting ${conflict}`, { conflict });
      expect(results.map((result) => result.state)).toEqual(["verified", "verified", "verified"]);
      expect(new Set(results.map((result) => result.output?.toLowerCase())).size).toBe(3);
      for (const result of results) expect(sha256(readFileSync(result.output as string))).toBe(result.sha256);
    }
  }, 60_000);

  it("of a file and of a folder stay apart; how many files lie in such a folder is known before", async () => {
    const chosen = (await items({ limit: 60, condition: "whole" })).filter((each) => each.size > 10 && each.copies === 1).slice(34, 38);
    const [file, ...others] = chosen;
    const folder = `(select min(folder_id) from items where job_id = ${jobId})`;
    await bench.pool.query(`update copies set name = 'Plans', folder_id = ${folder} where item_id = $1`, [file?.id]);
    for (const [index, path] of ["/pLANS", "/pLANS", "/pLANS/1999"].entries()) {
      const { rows } = await bench.pool.query(
        `insert into folders (job_id, home_id, path, folded) select job_id, home_id, rtrim(path, '/') || $1, md5(path || $1)::uuid from folders where id = ${folder}
          on conflict (home_id, md5(path)) do update set path = excluded.path returning id`,
        [path],
      );
      await bench.pool.query("update copies set folder_id = $2 where item_id = $1", [others[index]?.id, rows[0].id]);
    }
    await choose(chosen.map((item) => item.id));
    const { meeting, below } = await surveyTargets(bench.db, jobId, planTo("A folder of that name"));
    expect([meeting, below]).toEqual([0, 3]);
    const { results } = await restored("A folder of that name", {});
    expect(results.map(({ state }) => state)).toEqual(Array(4).fill("verified"));
    expect(results.filter(({ output }) => /\/pLANS \(2\)\//.test(output ?? ""))).toHaveLength(3);
  }, 60_000);

  /** Where the only volume of the card begins. */
  const BOOT_SECTOR = 0;

  it("of two cards with the same label and the same names stay apart", async () => {
    const own = await createJob(bench.db, { title: "Two cards", client: "" });
    for (const card of ["first card", "second card"]) {
      const path = join(bench.sources, `${card}.img`);
      const image = fixture("fat12.img.gz");
      // Another serial number: otherwise the two would be states of one card ([MS-FAT] 3.1, BS_VolID).
      if (card === "second card") image.writeUInt32LE(0x1234_5678, BOOT_SECTOR + 0x27);
      writeFileSync(path, image);
      await addSource(bench.db, own, path);
    }
    const [first] = await listSources(bench.db, own);
    expect(first?.volumes.map(({ offset }) => offset)).toEqual([BOOT_SECTOR]);
    for (const source of await listSources(bench.db, own)) for (const volume of source.volumes) await startPass(bench.db, own, volume.id);
    await until(async () => (await listPasses(bench.db, own)).every((pass) => pass.state === "done"));
    await changeTray(bench.db, own, { matching: itemQuery.parse({ show: "all", condition: "in-place" }), chosen: true });
    const id = await startRestore(bench.db, own, planTo("Two cards", { conflict: "replace" }));
    const { results } = await endedRestore(bench.db, own, id);
    expect(results.length).toBeGreaterThan(10);
    expect(results.filter((result) => result.state === "verified")).toHaveLength(results.length);
    expect(new Set(results.map((result) => result.output)).size).toBe(results.length);
    for (const result of results) expect(existsSync(result.output as string)).toBe(true);
    expect(results.some((result) => result.output?.includes("/first card/"))).toBe(true);
    // What was read in full is not hashed again when copies are compared.
    const { rows } = await bench.pool.query<{ same: boolean }>(
      "select encode(c.sha256, 'hex') = r.sha256 as same from restore_results r join copies c on c.id = r.copy_id where r.restore_id = $1",
      [id],
    );
    expect(rows.map(({ same }) => same)).toEqual(results.map(() => true));
  }, 60_000);
});

describe("a source that is not what it was", () => {
  /** A job over an image of its own, its records read, with some of its lost files. */
  async function ownJob(name: string, image: Uint8Array) {
    const own = await createJob(bench.db, { title: name, client: "" });
    const path = join(bench.sources, name);
    writeFileSync(path, image);
    const source = await addSource(bench.db, own, path);
    for (const each of await listSources(bench.db, own))
      for (const volume of each.volumes) if (volume.readable) await startPass(bench.db, own, volume.id);
    await until(async () => (await listPasses(bench.db, own)).every((pass) => pass.state === "done"));
    return { own, path, source };
  }
  const lostOf = async (own: number, query: Record<string, unknown> = {}) =>
    (await listItems(bench.db, own, itemQuery.parse({ limit: 400, ...query }))).items.filter((item) => item.size > 1000);

  it("is not read on, whichever part of it is other, and what was restored before is distinguished from that; the right one back, it goes on", async () => {
    const image = fixture("ntfs-4kn.img.gz");
    const { own, path } = await ownJob("changing.img", image);
    const [item] = await lostOf(own, { condition: "whole" });
    if (!item) throw new Error("nothing was found");
    const other = (at: number) => {
      const bytes = Buffer.from(image);
      bytes.writeUInt8((bytes.readUInt8(at) + 1) & 0xff, at);
      return bytes;
    };
    const cases: [string, Uint8Array][] = [
      ["another at its beginning", other(3)],
      ["another in its middle", other(image.length >> 1)],
      ["another at its end", other(image.length - 2)],
      ["cut short", image.subarray(0, image.length - 4096)],
      ["longer", Buffer.concat([image, Buffer.alloc(4096)])],
    ];
    for (const [words, bytes] of cases) {
      writeFileSync(path, bytes);
      await changeTray(bench.db, own, { items: [item.id], chosen: true });
      const id = await startRestore(bench.db, own, planTo(`Changed/${words}`));
      const { results } = await endedRestore(bench.db, own, id);
      expect(results, words).toMatchObject([{ state: "failed", output: null, problem: expect.stringContaining("is not what it was") }]);
      expect(readdirSync(join(bench.delivery, "Changed", words)), words).toEqual([]);
      await expect(runTask("form", [item.bestCopyId]), words).rejects.toThrow("is not what it was");
      // Nor is it searched on.
      const [volume] = (await listSources(bench.db, own))[0]?.volumes ?? [];
      const leftovers = await startPass(bench.db, own, volume?.id as number, "leftover-record");
      const pass = await until(async () =>
        (await listPasses(bench.db, own)).find((each) => each.id === leftovers && each.state === "failed"),
      );
      expect(pass.problem, words).toContain("is not what it was");
      writeFileSync(path, image);
      await retryRestore(bench.db, id);
      expect((await endedRestore(bench.db, own, id)).results, words).toMatchObject([{ state: "verified" }]);
    }
  }, 120_000);

  it("is read again when it was changed on purpose; another disk in its place is not taken for it", async () => {
    const image = fixture("ntfs-4kn.img.gz");
    const { own, path, source } = await ownJob("imaged further.img", image);
    const [item] = await lostOf(own, { condition: "whole" });
    const further = Buffer.from(image);
    further.writeUInt8(1, image.length - 1);
    writeFileSync(path, further);
    await rereadSource(bench.db, own, source);
    await changeTray(bench.db, own, { items: [item?.id as number], chosen: true });
    const { results } = await endedRestore(bench.db, own, await startRestore(bench.db, own, planTo("Imaged further")));
    expect(results).toMatchObject([{ state: "verified" }]);
    writeFileSync(path, fixture("fat32.img.gz"));
    await expect(rereadSource(bench.db, own, source)).rejects.toMatchObject({
      status: 409,
      message: expect.stringContaining("Another source"),
    });
  }, 60_000);

  it("gives no verified file out of what it does not hold: the gaps are reported, kept with the source, and count against the copy", async () => {
    const disk = smallDisk();
    const image = dynamicVhd(disk);
    const full = await ownJob("full.vhd", image);
    const hashes = new Map<string, string>();
    await changeTray(bench.db, full.own, { matching: itemQuery.parse({ show: "all" }), chosen: true });
    for (const result of (await endedRestore(bench.db, full.own, await startRestore(bench.db, full.own, planTo("Full")))).results)
      if (result.state === "verified") hashes.set(result.path, result.sha256 as string);
    const cut = await ownJob("cut.vhd", image.subarray(0, Math.floor(image.length * 0.6)));
    const map = async () => (await listSources(bench.db, cut.own))[0]?.unreadable ?? [];
    const known = await map();
    expect(known.length).toBeGreaterThan(0);
    // As if nobody had met them yet, and the records had vouched for the content.
    await bench.pool.query("update sources set unreadable = '[]' where id = $1", [cut.source]);
    await bench.pool.query(
      `update copies set condition = 'whole', survival = 1, evidence = evidence || '{"unreadable": 0}' where job_id = $1 and layout is not null`,
      [cut.own],
    );
    await changeTray(bench.db, cut.own, { matching: itemQuery.parse({ show: "all" }), chosen: true });
    const { results } = await endedRestore(bench.db, cut.own, await startRestore(bench.db, cut.own, planTo("Cut")));
    const gapped = results.filter(({ state, gaps }) => state === "gaps" && (gaps?.unreadable.length ?? 0) > 0);
    expect(gapped.length).toBeGreaterThan(3);
    for (const result of results) if (result.state === "verified") expect(result.sha256, result.path).toBe(hashes.get(result.path));
    expect(await map()).toEqual(known);
    const { rows } = await bench.pool.query<{ condition: string; survival: number; unreadable: string; notes: string[] }>(
      "select condition, survival, evidence->>'unreadable' as unreadable, notes from copies where id = any($1::bigint[])",
      [gapped.map(({ copyId }) => copyId)],
    );
    for (const { condition, survival, unreadable, notes } of rows) {
      expect(condition).not.toBe("whole");
      expect(survival).toBeLessThan(1);
      expect(notes.join(" ")).toContain(`${unreadable} bytes of it could not be read`);
    }
    // A preview learns it too.
    await bench.pool.query("update sources set unreadable = '[]' where id = $1", [cut.source]);
    await runTask("hash", [gapped[0]?.copyId as number]);
    expect(await map()).toEqual(known);
  }, 120_000);
});

describe("a destination", () => {
  it("that cannot be made ends the restore in words, and it goes on when the place is back", async () => {
    const [item] = (await items({ limit: 60, condition: "whole" })).filter((each) => each.size > 10).slice(40);
    await choose([item?.id as number]);
    // A file where the folder should be: no user, not even root, can make a folder there.
    writeFileSync(join(bench.delivery, "Blocked place"), "in the way");
    const failed = await restored("Blocked place/inside");
    expect(failed).toMatchObject({ state: "failed", problem: expect.stringContaining("in the way") });
    expect(failed.results).toMatchObject([{ state: "failed" }]);
    rmSync(join(bench.delivery, "Blocked place"));
    await retryRestore(bench.db, failed.id);
    expect((await endedRestore(bench.db, jobId, failed.id)).results).toMatchObject([{ state: "verified" }]);
    expect(dirname(failed.root)).toBe(join(bench.delivery, "Blocked place"));
  }, 60_000);
});

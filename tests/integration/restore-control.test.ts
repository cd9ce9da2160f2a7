import { spawnSync } from "node:child_process";
import { appendFileSync, existsSync, mkdirSync, readdirSync, readFileSync, rmSync, writeFileSync } from "node:fs";
import { dirname, join } from "node:path";
import { sql } from "drizzle-orm";
import Papa from "papaparse";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { verifyBag } from "../../io/verify-bag";
import { type Item, itemQuery } from "../../server/items/contract";
import { listItems } from "../../server/items/list";
import { startRestore } from "../../server/restores/commands";
import { type RestorePlan, survey } from "../../server/restores/contract";
import { changeRestore } from "../../server/restores/control";
import { archiveOf } from "../../server/restores/downloads";
import { rehearse } from "../../server/restores/rehearsal";
import { surveyTargets } from "../../server/restores/survey";
import { changeTray } from "../../server/tray/commands";
import { findTray } from "../../server/tray/queries";
import { sha256 } from "../support/backup-truth";
import { searchedJob, startTestBench, type TestBench, until } from "../support/bench";
import { endedRestore, planTo, wholeRestore } from "../support/restores";

let bench: TestBench;
let jobId: number;
let chosen: Item[];
/** All whole items. */
let all: Item[];

beforeAll(async () => {
  bench = await startTestBench();
  jobId = await searchedJob(bench, "ntfs-gpt");
  bench.worker();
  all = (await listItems(bench.db, jobId, itemQuery.parse({ limit: 400, condition: "whole" }))).items;
  chosen = all.slice(0, 60);
}, 120_000);
afterAll(() => bench.close());

async function begin(destination: string, facts: Partial<RestorePlan> = {}, items = chosen): Promise<number> {
  await changeTray(bench.db, jobId, { everything: true, chosen: false });
  await changeTray(bench.db, jobId, { items: items.map(({ id }) => id), chosen: true });
  return startRestore(bench.db, jobId, planTo(destination, facts));
}
const restored = async (destination: string, facts: Partial<RestorePlan> = {}, items = chosen) =>
  endedRestore(bench.db, jobId, await begin(destination, facts, items));
const rootOf = (destination: string) => join(bench.delivery, destination);
const filesBelow = (root: string) =>
  readdirSync(root, { recursive: true, withFileTypes: true })
    .filter((entry) => entry.isFile())
    .map((entry) => join(entry.parentPath, entry.name).slice(root.length + 1));

/** Begins a restore and pauses it after its first files, tried anew where it was too quick: all whole items, so that there are several rounds. */
async function pausedHalfway(destination: string): Promise<{ id: number; name: string }> {
  for (let round = 1; round <= 6; round += 1) {
    const name = `${destination} ${round}`;
    const id = await begin(name, {}, all);
    await until(async () => (await wholeRestore(bench.db, jobId, id)).counts.settled > 0);
    await changeRestore(bench.db, id, { what: "pause" }).catch(() => undefined);
    const ended = await endedRestore(bench.db, jobId, id);
    if (ended.state === "paused") return { id, name };
  }
  throw new Error("no restore was caught half-way");
}

/** Rows of a table as the planner knows of them (pg_class.reltuples). */
async function rowsKnownOf(table: string): Promise<number> {
  const { rows } = await bench.db.execute<{ known: number }>(
    sql`select reltuples::float8 as known from pg_class where oid = ${table}::regclass`,
  );
  return rows[0]?.known ?? 0;
}

it("has the planner know how long the tray and the list of files are, so that settling one file does not go through all", async () => {
  await bench.db.execute(sql`update pg_class set reltuples = 0 where oid in ('tray_entries'::regclass, 'restore_results'::regclass)`);
  await begin("Counted", {}, all);
  expect(await rowsKnownOf("restore_results")).toBeGreaterThanOrEqual(all.length);
  expect(await rowsKnownOf("tray_entries")).toBeGreaterThan(0);
  await until(async () => (await findTray(bench.db, jobId)).count === 0);
});

describe("a restore that is asked to", () => {
  it("waits when it is paused, keeps its files from other restores, and goes on to its end", async () => {
    const { id, name } = await pausedHalfway("Paused");
    const paused = await wholeRestore(bench.db, jobId, id);
    expect(paused).toMatchObject({ problem: null, waits: false });
    const waiting = paused.results.filter(({ state }) => state === "waiting");
    expect(waiting.length).toBeGreaterThan(0);
    expect(waiting.length + paused.counts.verified).toBe(all.length);
    // No half file under a final name, and nothing else.
    expect(filesBelow(rootOf(name))).toHaveLength(paused.counts.verified);
    await expect(startRestore(bench.db, jobId, planTo("Another"))).rejects.toThrow("being restored already");
    await changeRestore(bench.db, id, { what: "resume" });
    const done = await endedRestore(bench.db, jobId, id);
    expect(done).toMatchObject({ state: "done", counts: { verified: all.length } });
    for (const { output, sha256: hash } of done.results) expect(sha256(readFileSync(output as string))).toBe(hash);
    await expect(changeRestore(bench.db, id, { what: "pause" })).rejects.toThrow("ended already");
  });

  it("stops: what is written stays, what is not is said and stays in the tray", async () => {
    const { id } = await pausedHalfway("Stopped");
    const before = await wholeRestore(bench.db, jobId, id);
    await changeRestore(bench.db, id, { what: "stop" });
    const done = await endedRestore(bench.db, jobId, id);
    expect(done.state).toBe("done");
    const left = done.results.filter(({ state }) => state === "skipped");
    expect(left.length).toBe(all.length - before.counts.verified);
    for (const { problem, output } of left) expect([problem, output]).toEqual([expect.stringContaining("stopped before"), null]);
    expect((await findTray(bench.db, jobId)).count).toBe(left.length);
  });

  it("has the rest written elsewhere, each file once", async () => {
    const { id } = await pausedHalfway("First place");
    const rest = await changeRestore(bench.db, id, { what: "elsewhere", destination: "Second place", delivery: null });
    expect(rest).not.toBe(id);
    const both = [await endedRestore(bench.db, jobId, id), await endedRestore(bench.db, jobId, rest)];
    expect(both.map(({ state }) => state)).toEqual(["done", "done"]);
    expect(both.reduce((sum, { counts }) => sum + counts.verified, 0)).toBe(all.length);
    expect(new Set(both.flatMap(({ results }) => results.map(({ copyId }) => copyId))).size).toBe(all.length);
    expect((await findTray(bench.db, jobId)).count).toBe(0);
  });
});

describe("files that are there already", () => {
  it("are compared first: the same bytes are left, others kept beside mine, and neither is called written", async () => {
    const first = await restored("Compared");
    expect(first.counts.verified).toBe(chosen.length);
    const changed = first.results.slice(0, 3).map(({ output }) => output as string);
    for (const [index, path] of changed.entries()) {
      // One is longer, one is as long with another byte, one is gone.
      if (index === 0) appendFileSync(path, "x");
      else if (index === 1) writeFileSync(path, Buffer.from(readFileSync(path)).fill(0xa5, 0, 1));
      else rmSync(path);
    }
    const same = await readFileSyncOf(first.results.slice(3).map(({ output }) => output as string));
    const again = await restored("Compared", { conflict: "compare" });
    expect(again.counts).toMatchObject({ files: chosen.length, same: chosen.length - 3, verified: 3, failed: 0, skipped: 0 });
    for (const result of again.results) {
      expect(sha256(readFileSync(result.output as string))).toBe(result.sha256);
      if (result.state === "same") expect(result.problem).toContain("byte for byte");
    }
    // Nothing that was there was touched.
    expect(await readFileSyncOf(first.results.slice(3).map(({ output }) => output as string))).toEqual(same);
    const besides = again.results.filter(({ state }) => state === "verified").map(({ output }) => output as string);
    expect(besides.filter((output) => changed.includes(output))).toEqual([changed[2]]);
  });

  it("are treated by their kind, and single ones as is said of them", async () => {
    await restored("By kind");
    await changeTray(bench.db, jobId, { items: chosen.map(({ id }) => id), chosen: true });
    const found = survey.parse(await surveyTargets(bench.db, jobId, planTo("By kind")));
    expect(Object.values(found.kinds).reduce((sum, count) => sum + count, 0)).toBe(chosen.length);
    const kind = chosen[0]?.kind as keyof typeof found.kinds;
    const one = found.conflicts.find((file) => file.kind === kind)?.copyId as number;
    const done = await restored("By kind", { conflict: "skip", kinds: { [kind]: "compare" }, choices: { [one]: "keep-both" } });
    const ofKind = found.kinds[kind] as number;
    expect(done.counts).toMatchObject({ same: ofKind - 1, verified: 1, skipped: chosen.length - ofKind });
  });
});

const readFileSyncOf = async (paths: readonly string[]) => paths.map((path) => sha256(readFileSync(path)));

describe("a package for the archive", () => {
  it("is a bag by general tools, with the report, the list and the hashes of what was found", async () => {
    const done = await restored("Bag", { form: "bag" });
    expect(done.counts.verified).toBe(chosen.length);
    const bag = rootOf("Bag");
    // RFC 8493, 2.1.3: the manifests are what sha256sum and sha512sum check.
    for (const algorithm of ["sha256", "sha512"])
      for (const manifest of [`manifest-${algorithm}.txt`, `tagmanifest-${algorithm}.txt`]) {
        const checked = spawnSync(`${algorithm}sum`, ["--strict", "--quiet", "-c", manifest], { cwd: bag, encoding: "utf8" });
        expect(checked.status, checked.stderr).toBe(0);
      }
    expect(verifyBag(bag)).toMatchObject({ agreed: chosen.length, problems: [] });
    const manifest = readFileSync(join(bag, "manifest-sha256.txt"), "utf8");
    for (const { sha256: hash } of done.results) expect(manifest).toContain(hash);
    const list = Papa.parse<Record<string, string>>(readFileSync(join(bag, "restored files.csv"), "utf8").replace(/^\ufeff/, ""), {
      header: true,
      skipEmptyLines: true,
    }).data;
    expect(list.map((row) => row["written as"]).sort()).toEqual(
      filesBelow(join(bag, "data"))
        .map((path) => `data/${path}`)
        .sort(),
    );
    expect(new Set(list.map((row) => row["original path"]))).toEqual(new Set(done.results.map(({ path }) => path)));
    const report = JSON.parse(readFileSync(join(bag, "handover.json"), "utf8"));
    expect(report.restores.find((each: { id: number }) => each.id === done.id)).toMatchObject({ state: "done" });
    expect(readFileSync(join(bag, "handover.html"), "utf8")).toContain("What was restored");
    // What is not in the package is found.
    appendFileSync(join(bag, "data", filesBelow(join(bag, "data"))[0] as string), "x");
    expect(verifyBag(bag).problems.length).toBeGreaterThan(0);
  });

  it("needs a folder of its own", async () => {
    mkdirSync(rootOf("Taken"), { recursive: true });
    writeFileSync(join(rootOf("Taken"), "mine.txt"), "mine");
    await changeTray(bench.db, jobId, { items: chosen.map(({ id }) => id), chosen: true });
    expect((await rehearse(bench.db, jobId, planTo("Taken", { form: "bag" }))).refused).toContain("folder of its own");
    await expect(begin("Taken", { form: "bag" })).rejects.toThrow("folder of its own");
    expect(readdirSync(rootOf("Taken"))).toEqual(["mine.txt"]);
  });

  it("is several where there is a limit, none with more than it but for single files that are larger", async () => {
    const limit = 1_000_000;
    const done = await restored("Bags", { form: "bag", bagLimit: limit }, all);
    expect(done.counts.verified).toBe(all.length);
    const bags = readdirSync(rootOf("Bags")).sort();
    expect(bags.length).toBeGreaterThan(2);
    expect(bags.every((name) => /^Package \d+$/.test(name))).toBe(true);
    let agreed = 0;
    for (const name of bags) {
      const report = verifyBag(join(rootOf("Bags"), name));
      expect(report.problems).toEqual([]);
      expect(report.bytes <= limit || report.agreed === 1, `${name}: ${report.bytes} bytes in ${report.agreed} files`).toBe(true);
      agreed += report.agreed;
      expect(readFileSync(join(rootOf("Bags"), name, "bag-info.txt"), "utf8")).toMatch(/^Bag-Count: \d+ of \d+$/m);
    }
    expect(agreed).toBe(all.length);
  });
});

describe("what lies beside and what goes out", () => {
  it("a list lies beside files that lie otherwise than they did, and none beside those that do not", async () => {
    const kinds = await restored("Listed", { layout: "kind" });
    const list = Papa.parse<Record<string, string>>(
      readFileSync(join(rootOf("Listed"), "restored files.csv"), "utf8").replace(/^\ufeff/, ""),
      {
        header: true,
        skipEmptyLines: true,
      },
    ).data;
    expect(list).toHaveLength(chosen.length);
    const written = new Map(list.map((row) => [row["written as"], row]));
    const { rows } = await bench.db.execute<{ id: string; raw: string }>(
      sql`select id, encode(name_raw, 'hex') as raw from copies where job_id = ${jobId}`,
    );
    const raw = new Map(rows.map((row) => [Number(row.id), row.raw]));
    for (const { output, path, copyId, sha256: hash } of kinds.results) {
      const row = written.get((output as string).slice(rootOf("Listed").length + 1));
      expect(row).toMatchObject({ "original path": path, "sha-256": hash, "name as stored, hex": raw.get(copyId) });
    }
    await restored("Unlisted");
    expect(existsSync(join(rootOf("Unlisted"), "restored files.csv"))).toBe(false);
  });

  it("all files come out as a TAR that the general tool unpacks to the same bytes", async () => {
    const done = await restored("As TAR");
    const tar = join(dirname(bench.delivery), "all.tar");
    writeFileSync(tar, Buffer.from(await (await archiveOf(bench.db, done.id, "tar")).arrayBuffer()));
    const out = join(dirname(bench.delivery), "all");
    mkdirSync(out);
    const unpacked = spawnSync("tar", ["-xf", tar, "-C", out], { encoding: "utf8" });
    expect(unpacked.status, unpacked.stderr).toBe(0);
    for (const { output, sha256: hash } of done.results)
      expect(sha256(readFileSync(join(out, (output as string).slice(rootOf("As TAR").length + 1))))).toBe(hash);
    expect(filesBelow(out)).toHaveLength(chosen.length);
  });
});

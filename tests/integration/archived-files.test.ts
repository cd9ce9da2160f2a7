import { createHash } from "node:crypto";
import { cpSync, mkdirSync, readdirSync, readFileSync, renameSync, rmSync, statSync, utimesSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import { sql } from "drizzle-orm";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { itemQuery } from "../../server/items/contract";
import { listItems } from "../../server/items/list";
import { startPass } from "../../server/passes/commands";
import { startRestore } from "../../server/restores/commands";
import { addInnerSource, relinkSource } from "../../server/sources/commands";
import { listSources } from "../../server/sources/queries";
import { changeTray } from "../../server/tray/commands";
import { startTestBench, type TestBench } from "../support/bench";
import { jobOver, passesDone } from "../support/jobs-over";
import { endedRestore, planTo } from "../support/restores";
import { setTruth, unpackSet } from "../support/set-truth";
import { readTruth } from "../support/volume-truth";

let bench: TestBench;
beforeAll(async () => {
  bench = await startTestBench();
  bench.worker();
});
afterAll(() => bench.close());

interface Archived extends Record<string, unknown> {
  id: string;
  name: string;
  condition: string;
  absent: string | null;
  further: { path: string }[] | null;
  notes: string[];
}

/** What archives of a job's backup sets hold. */
async function versionsIn(job: number): Promise<Archived[]> {
  const { rows } = await bench.db.execute<Archived>(sql`
    select c.id, c.name, c.condition, c.absent, c.file_further as further, c.notes from copies c where c.job_id = ${job} and c.place = 'backup' and c.type = 'file'`);
  return rows;
}

/** Restores what is in the tray: each file must be one of the manifest's, byte for byte. */
async function restoreAsIn({ files }: ReturnType<typeof setTruth>, job: number, folder: string, least: number): Promise<void> {
  const { results } = await endedRestore(bench.db, job, await startRestore(bench.db, job, planTo(folder)));
  expect(results.length).toBeGreaterThanOrEqual(least);
  const known = new Set(files.flatMap(({ versions }) => versions.map(({ sha256 }) => sha256)));
  for (const { state, output } of results) {
    expect(state).toBe("verified");
    const hash = createHash("sha256").update(readFileSync(output as string));
    expect(known).toContain(hash.digest("hex"));
  }
}

describe("files of backup sets that stand in archives", () => {
  it("gives single files out of archives, those that stand in several of them too", async () => {
    const truth = setTruth("archive-sets");
    const job = await jobOver(bench, unpackSet("archive-sets", bench.sources), ["earlier-states"]);
    const versions = await versionsIn(job);
    const whole = versions.filter(({ condition }) => condition === "whole");
    expect(whole.length).toBeGreaterThan(200);
    const several = versions.filter(({ further }) => further);
    expect(several).toHaveLength(2);
    expect(versions.filter(({ absent }) => absent === "not-followed")).toEqual([]);
    await changeTray(bench.db, job, { copies: [...several, ...whole.slice(0, 60)].map(({ id }) => Number(id)), chosen: true });
    await restoreAsIn(truth, job, "Out of archives", 31);
    // Of one that is damaged comes what was unpacked up to there, and never as a sound one.
    const damaged = versions.filter(({ notes }) => notes.some((note) => note.includes("checksum in the archive does not agree")));
    expect(damaged.map(({ condition }) => condition)).not.toContain("whole");
    await changeTray(bench.db, job, { copies: damaged.map(({ id }) => Number(id)), chosen: true });
    const { results } = await endedRestore(bench.db, job, await startRestore(bench.db, job, planTo("Damaged in its archive")));
    expect(results.length).toBeGreaterThan(0);
    for (const { state } of results) expect(state).toBe("gaps");
  }, 180_000);

  it("gives single files out of archives that are compressed as a whole, byte for byte", async () => {
    const truth = setTruth("archives");
    const folder = join(bench.sources, "packed archives");
    mkdirSync(folder);
    const all = unpackSet("archives", bench.sources);
    for (const name of readdirSync(all))
      if (/\.tar\.\w+$/.test(name)) cpSync(join(all, name), join(folder, name), { preserveTimestamps: true });
    const job = await jobOver(bench, folder, ["earlier-states"]);
    const { rows } = await bench.db.execute<{ id: string; holder: string }>(sql`
      select c.id, c.file as holder from copies c join stores v on v.id = c.store_id join sources s on s.id = v.source_id
      where s.job_id = ${job} and c.place = 'backup' and c.size > 0 and c.condition in ('whole', 'not-checked') and c.file ~ '\.tar\.(gz|bz2|xz)$'`);
    const kinds = new Map<string, number[]>();
    for (const { id, holder } of rows) {
      const kind = holder.slice(holder.lastIndexOf("."));
      kinds.set(kind, [...(kinds.get(kind) ?? []), Number(id)]);
    }
    expect([...kinds.keys()].sort()).toEqual([".bz2", ".gz", ".xz"]);
    const chosen = [...kinds.values()].flatMap((ids) => ids.slice(0, 20));
    await changeTray(bench.db, job, { copies: chosen, chosen: true });
    await restoreAsIn(truth, job, "Out of packed archives", 31);
  }, 180_000);

  it("come out of split archives one by one; a disk among them is opened where it stands; a part that is another now is reported", async () => {
    const truth = setTruth("split-backup");
    const folder = unpackSet("split-backup", bench.sources);
    const job = await jobOver(bench, folder, ["earlier-states"]);
    const versions = await versionsIn(job);
    expect(versions.length).toBe(truth.files.reduce((sum, { versions: all }) => sum + all.length, 0));
    expect(versions.every(({ condition }) => condition === "whole")).toBe(true);
    const noise = versions.find(({ name }) => name === "noise.bin");
    expect(noise?.further?.length).toBeGreaterThan(0);
    expect(noise?.notes.join(" ")).toMatch(/It stands in the archives “Backup [^”]*”, “Backup [^”]*”/);
    await changeTray(bench.db, job, { copies: versions.map(({ id }) => Number(id)), chosen: true });
    await restoreAsIn(truth, job, "Out of split archives", truth.files.length);

    const disk = versions.find(({ name }) => name === "club.img");
    expect(disk?.further?.length).toBeGreaterThan(3);
    const inside = await addInnerSource(bench.db, job, Number(disk?.id));
    const stick = (await listSources(bench.db, job)).find(({ id }) => id === inside);
    expect(stick?.volumes).toMatchObject([{ filesystem: "fat12" }]);
    await startPass(bench.db, job, stick?.volumes[0]?.id as number, "file-record");
    await passesDone(bench, job);
    const { items } = await listItems(bench.db, job, itemQuery.parse({ show: "all", limit: 400 }));
    const onStick = readTruth("fat12").entries.filter(({ type, state, size }) => type === "file" && state === "live" && (size ?? 0) > 0);
    const found = items.filter(({ name, size }) => onStick.some((each) => each.path.endsWith(name) && each.size === size));
    expect(found.length).toBeGreaterThanOrEqual(onStick.length);
    await changeTray(bench.db, job, { items: found.map(({ id }) => id), chosen: true });
    const fromStick = await endedRestore(bench.db, job, await startRestore(bench.db, job, planTo("From the stick")));
    const sound = new Set([...onStick, ...truth.files.flatMap(({ versions: all }) => all)].map(({ sha256 }) => sha256));
    for (const { state, sha256 } of fromStick.results) expect([state, sound.has(sha256 ?? "")]).toEqual(["verified", true]);

    // The folder elsewhere is the same one, by the sizes of its archives.
    const elsewhere = join(bench.sources, "split backup, elsewhere");
    renameSync(folder, elsewhere);
    const [outer] = (await listSources(bench.db, job)).filter(({ id }) => id !== inside);
    await relinkSource(bench.db, job, outer?.id as number, elsewhere);
    const part = join(elsewhere, noise?.further?.[0]?.path as string);
    const { mtime } = statSync(part);
    writeFileSync(part, readFileSync(part).reverse());
    utimesSync(part, mtime, new Date(mtime.getTime() + 60_000));
    await changeTray(bench.db, job, { copies: [Number(noise?.id)], chosen: true });
    const { results } = await endedRestore(bench.db, job, await startRestore(bench.db, job, planTo("A part is another")));
    expect(results).toMatchObject([{ state: "failed", problem: expect.stringContaining("is another version than the one that was read") }]);
  }, 180_000);

  it("are listed by their names alone where a part is missing, and nothing says that they could be had", async () => {
    const folder = join(unpackSet("split-backup", join(bench.sources, "a part missing")));
    rmSync(join(folder, "Backup 2026-01-04.z01"));
    const job = await jobOver(bench, folder, ["earlier-states"]);
    const gone = (await versionsIn(job)).filter(({ condition }) => condition === "name-only");
    expect(gone.length).toBeGreaterThan(5);
    for (const { notes, absent } of gone) {
      expect(absent).not.toBe("not-followed");
      expect(notes.join(" ")).toContain("nothing of it stands");
      expect(notes.join(" ")).not.toContain("command line");
    }
    await changeTray(bench.db, job, { copies: gone.map(({ id }) => Number(id)), chosen: true });
    const { results } = await endedRestore(bench.db, job, await startRestore(bench.db, job, planTo("Of a missing part")));
    expect(results.map(({ state, output }) => [state, output])).toEqual(gone.map(() => ["failed", null]));
  }, 120_000);
});

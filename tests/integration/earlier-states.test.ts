import { createHash } from "node:crypto";
import { linkSync, mkdirSync, readFileSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import { gunzipSync } from "node:zlib";
import { sql } from "drizzle-orm";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { layOut, type PackedFiles } from "../../demo/lay-out";
import { changeHomes } from "../../server/homes/commands";
import { listHomes } from "../../server/homes/queries";
import { itemQuery } from "../../server/items/contract";
import { sinceFacet } from "../../server/items/facets";
import { listItems } from "../../server/items/list";
import { findItem } from "../../server/items/queries";
import { createJob } from "../../server/jobs/commands";
import { changePass, startPass } from "../../server/passes/commands";
import { listPasses } from "../../server/passes/queries";
import { startRestore } from "../../server/restores/commands";
import { addSource } from "../../server/sources/commands";
import { listSources } from "../../server/sources/queries";
import { changeTray } from "../../server/tray/commands";
import { startTestBench, type TestBench, until } from "../support/bench";
import { jobOver, passesDone } from "../support/jobs-over";
import { endedRestore, planTo } from "../support/restores";
import { setTruth, unpackSet } from "../support/set-truth";
import { snapshotDisk, snapshotTruth } from "../support/snapshot-truth";

let bench: TestBench;
let worker: ReturnType<TestBench["worker"]>;
/** So that a pass can be met in its midst. */
const SMALL_BATCHES = { COMPASS_BATCH: "16" };
beforeAll(async () => {
  bench = await startTestBench();
  worker = bench.worker(SMALL_BATCHES);
});
afterAll(() => bench.close());

const query = (change: object) => itemQuery.parse({ limit: 400, ...change });
/** Files that vanish from one state to the next while their very content appears under one other path there: from where they went where, by the truth. */
function movesIn({ states, files }: typeof snapshotTruth): Map<string, string> {
  const found = new Map<string, string>();
  const contentOf = (path: string, version: number | undefined) =>
    files.find((file) => file.path === path)?.versions[(version ?? 0) - 1]?.sha256;
  states.slice(1).forEach(({ tree }, index) => {
    const before = states[index]?.tree ?? {};
    const [gone, come] = [Object.keys(before).filter((path) => !(path in tree)), Object.keys(tree).filter((path) => !(path in before))];
    for (const path of gone) {
      const there = come.filter((other) => contentOf(other, tree[other]) === contentOf(path, before[path]));
      if (there.length === 1) found.set(path.normalize("NFC"), (there[0] as string).normalize("NFC"));
    }
  });
  return found;
}

interface StoredVersion extends Record<string, unknown> {
  name: string;
  path: string;
  place: string;
  state: string;
  condition: string;
  from: string | null;
  until: string | null;
  moved_to: string | null;
  id: string;
  item_id: string;
}
const versionsIn = async (job: number, place: "snapshot" | "backup"): Promise<StoredVersion[]> => {
  const { rows } = await bench.db.execute<StoredVersion>(sql`
    select c.id, c.item_id, c.name, f.path, c.place, c.state, c.condition, lower(c.present)::text as "from", upper(c.present)::text as until, c.moved_to
    from copies c join folders f on f.id = c.folder_id where c.job_id = ${job} and c.place = ${place} and c.type = 'file'`);
  return rows;
};

describe("the pass over earlier states", () => {
  it("brings each content a snapshot alone has, beside the present file, and takes it back", async () => {
    const path = join(bench.sources, "snapshots.img");
    writeFileSync(path, snapshotDisk());
    const job = await jobOver(bench, path, ["file-record", "earlier-states"]);
    const versions = await versionsIn(job, "snapshot");
    /** What stood in a state, and does not stand under its path now. */
    const now = snapshotTruth.states.find(({ state }) => state === "now")?.tree ?? {};
    const wanted = new Set(
      snapshotTruth.states.flatMap(({ state, tree }) =>
        state === "now" ? [] : Object.entries(tree).flatMap(([each, v]) => (now[each] === v ? [] : [`${each} ${v}`])),
      ),
    );
    expect(versions.length).toBeGreaterThanOrEqual(wanted.size);
    // A defragmenter that moved a file changed nothing that a person would call another version; it is counted as one all the same.
    expect(versions.length).toBeLessThan(wanted.size * 1.3 + 10);
    expect(versions.every(({ condition }) => condition === "whole")).toBe(true);
    // A file that is gone is lost; one that has other content now, or stands elsewhere, is not.
    const movedBy = movesIn(snapshotTruth);
    expect(movedBy.size).toBeGreaterThan(3);
    const deleted = new Map<string, boolean>();
    const moved = new Map<string, string>();
    for (const { path: folder, name, state, moved_to: to } of versions) {
      const own = `${folder}/${name}`.slice(1);
      deleted.set(own, (deleted.get(own) ?? false) || state === "deleted");
      if (to !== null) moved.set(own, to.slice(1).normalize("NFC"));
    }
    for (const [own, isDeleted] of deleted) expect(isDeleted, own).toBe(!(own in now) && !movedBy.has(own));
    expect([...moved].sort()).toEqual([...movedBy].sort());
    // The list as of a moment has what stood then, and an item has its versions together.
    const first = snapshotTruth.states[0];
    const asOf = await listItems(bench.db, job, query({ asOf: new Date(Date.parse(first?.date ?? "") + 1000).toISOString(), show: "all" }));
    const names = new Set(asOf.items.map((item) => `${item.folder}/${item.name}`.slice(1).normalize("NFC")));
    const gone = Object.keys(first?.tree ?? {}).filter((each) => !(each in now));
    expect(gone.length).toBeGreaterThan(3);
    for (const each of gone) expect(names).toContain(each.normalize("NFC"));
    // What became of each since, by the truth: gone, other content, or the same.
    const wrong = asOf.items.flatMap((each) => {
      const own = `${each.folder}/${each.name}`.slice(1);
      const v = first?.tree[own];
      if (v === undefined) return [];
      const since = movedBy.has(own) && !(own in now) ? "moved" : !(own in now) ? "gone" : now[own] === v ? "same" : "changed";
      return since === each.since ? [] : [`${own}: ${each.since}, and is ${since}`];
    });
    expect(wrong).toEqual([]);
    // Narrowed by what became of them, the list is that part of it, and is counted as such.
    const ofFirst = { asOf: new Date(Date.parse(first?.date ?? "") + 1000).toISOString(), show: "all" };
    const counts = (await sinceFacet(bench.db, job, query(ofFirst))).since;
    for (const since of ["gone", "moved", "changed", "same"] as const) {
      const narrowed = (await listItems(bench.db, job, query({ ...ofFirst, since }))).items.map(({ id }) => id);
      expect(narrowed).toEqual(asOf.items.filter((each) => each.since === since).map(({ id }) => id));
      expect(counts.find(({ value }) => value === since)?.count ?? 0).toBe(narrowed.length);
    }
    const file = snapshotTruth.files.find(({ path: each, versions: all }) => all.length > 2 && each in now);
    const [copy] = versions.filter(({ path: folder, name }) => `${folder}/${name}`.slice(1) === file?.path.normalize("NFC"));
    const item = await findItem(bench.db, Number(copy?.item_id));
    expect(item?.list.filter(({ place }) => place === "snapshot").length).toBeGreaterThan(1);
    expect(item?.list.some(({ place, state }) => place === "file-record" && state === "live")).toBe(true);
    // The first of them comes back with the bytes of that time.
    await changeTray(bench.db, job, { copies: [Number(copy?.id)], chosen: true });
    const { results } = await endedRestore(bench.db, job, await startRestore(bench.db, job, planTo("As it was")));
    expect(results).toMatchObject([{ state: "verified" }]);
    const hash = createHash("sha256")
      .update(readFileSync(results[0]?.output as string))
      .digest("hex");
    expect(file?.versions.map(({ sha256 }) => sha256)).toContain(hash);
  }, 180_000);

  it("stores a file that many states share once, with the span it stood in", async () => {
    const truth = setTruth("linked-trees");
    const job = await jobOver(bench, unpackSet("linked-trees", bench.sources), ["earlier-states"]);
    const versions = await versionsIn(job, "backup");
    const [source] = await listSources(bench.db, job);
    const sets = source?.volumes[0]?.sets ?? [];
    const states = truth.states ?? [];
    for (const machine of new Set(states.map((state) => state.machine))) {
      const unfinished = truth.unfinished?.filter((state) => state.machine === machine) ?? [];
      const dates = [...states.filter((state) => state.machine === machine), ...unfinished].map(({ date = "" }) => Date.parse(date));
      const set = sets.find((each) => each.machine === machine);
      expect(set).toMatchObject({ kind: "dated-trees", states: dates.length, read: dates.length, unfinished: unfinished.length });
      expect(Math.abs((set?.first ?? 0) - Math.min(...dates))).toBeLessThan(1000);
      expect(Math.abs((set?.last ?? 0) - Math.max(...dates))).toBeLessThan(1000);
    }
    expect(sets.reduce((sum, { versions: each }) => sum + each, 0)).toBe(versions.length);
    // As of the moment of a state, and narrowed to its set, the list is the tree of that state.
    for (const state of states.filter((_, index) => index % 5 === 0)) {
      const key = sets.find(({ machine }) => machine === state.machine)?.key;
      expect(key).toMatch(/^[0-9a-f]{12}$/);
      const asOf = new Date(Math.ceil(Date.parse(state.date ?? "") / 1000) * 1000).toISOString();
      const { items } = await listItems(bench.db, job, query({ asOf, set: `${source?.volumes[0]?.id}-${key}`, show: "all", limit: 1000 }));
      const tails = Object.keys(state.tree ?? {}).map((path) => path.normalize("NFC"));
      expect(items.length, state.date).toBe(tails.length);
      const paths = items.map(({ folder, name }) => `${folder}/${name}`.normalize("NFC"));
      expect(tails.filter((tail) => !paths.some((path) => path.endsWith(`/${tail.replace(/^\//, "")}`)))).toEqual([]);
    }
    const stood = truth.files.reduce((sum, { versions: all }) => sum + all.length, 0);
    // 7,402 files in 53 states are 700 contents; a file that one damaged state lacks has two spans.
    expect(versions.length).toBeLessThan(stood * 1.3);
    expect(versions.length).toBeGreaterThanOrEqual(stood);
    expect(versions.every(({ from }) => from !== null)).toBe(true);
    // What the last state of its computer has, nothing says the end of.
    const lasting = ["Ilses Rechner", "LOFT-MINI"].map((machine) => truth.states?.filter((state) => state.machine === machine).at(-1));
    const inLast = lasting.reduce((sum, state) => sum + Object.keys(state?.tree ?? {}).length, 0);
    expect(Math.abs(versions.filter(({ until: end }) => end === null).length - inLast)).toBeLessThan(inLast / 10);
  }, 180_000);

  it("reads the newest state first where asked, stores the same versions, and is no narrowed pass", async () => {
    const path = unpackSet("linked-trees", bench.sources);
    const [oldest, newest] = await Promise.all(
      [{}, { newestFirst: true }].map(async (options) => {
        const job = await createJob(bench.db, { title: JSON.stringify(options), client: "" });
        await addSource(bench.db, job, path);
        const store = (await listSources(bench.db, job))[0]?.volumes[0]?.id as number;
        await startPass(bench.db, job, store, "earlier-states", options);
        await expect(startPass(bench.db, job, store, "earlier-states", {})).rejects.toThrow("read already");
        await expect(startPass(bench.db, job, store, "earlier-states", { newestFirst: true })).rejects.toThrow("read already");
        await passesDone(bench, job);
        return (await versionsIn(job, "backup")).map(({ id: _, item_id: __, ...version }) => JSON.stringify(version)).sort();
      }),
    );
    expect(newest?.length).toBeGreaterThan(500);
    expect(newest).toEqual(oldest);
  }, 120_000);

  it("keeps to states between two days, claims nothing of those it leaves out, and says what became of what stood then", async () => {
    const truth = setTruth("linked-trees");
    const path = unpackSet("linked-trees", bench.sources);
    const machine = "Ilses Rechner";
    const states = (truth.states ?? []).filter((state) => state.machine === machine);
    const at = (state: (typeof states)[number] | undefined) => Math.ceil(Date.parse(state?.date ?? "") / 1000) * 1000;
    const day = (state: (typeof states)[number] | undefined) => new Date(at(state)).toISOString().slice(0, 10);
    const [first, last, newest] = [states[4], states[9], states.at(-1)];
    const job = await createJob(bench.db, { title: "Narrowed", client: "" });
    await addSource(bench.db, job, path);
    const [source] = await listSources(bench.db, job);
    const store = source?.volumes[0]?.id as number;
    await startPass(bench.db, job, store, "earlier-states", { statesFrom: day(first), statesTo: day(last) });
    await passesDone(bench, job);
    const set = (await listSources(bench.db, job))[0]?.volumes[0]?.sets.find((each) => each.machine === machine);
    const kept = states.filter((state) => day(state) >= day(first) && day(state) <= day(last));
    expect(kept.length).toBeLessThan(states.length - 2);
    expect(set).toMatchObject({ states: states.length + (truth.unfinished?.filter((state) => state.machine === machine).length ?? 0) });
    // Those between the days, with what was broken off there, and the newest one.
    expect(set?.read).toBeGreaterThanOrEqual(kept.length + 1);
    expect(set?.read).toBeLessThan((set?.states ?? 0) - 2);
    const asOf = async (moment: number) =>
      (
        await listItems(
          bench.db,
          job,
          query({ asOf: new Date(moment).toISOString(), set: `${store}-${set?.key}`, show: "all", limit: 1000 }),
        )
      ).items;
    const shown = (state: (typeof states)[number] | undefined) =>
      Object.keys(state?.tree ?? {}).map((each) => each.split("/").at(-1)?.normalize("NFC"));
    for (const state of [...kept, newest]) {
      const items = await asOf(at(state));
      expect(items.map(({ name }) => name).sort(), day(state)).toEqual(shown(state).sort());
      for (const { folder, name, since } of items) {
        const own = Object.keys(state?.tree ?? {}).find((each) =>
          `${folder}/${name}`.normalize("NFC").endsWith(`/${each.normalize("NFC").replace(/^\//, "")}`),
        );
        expect(own, name).toBeDefined();
        const [then, now] = [state?.tree?.[own ?? ""], newest?.tree?.[own ?? ""]];
        expect(since, `${own} as of ${day(state)}`).toBe(
          now === undefined ? "gone" : JSON.stringify(now) === JSON.stringify(then) ? "kept" : "changed",
        );
      }
    }
    // What was left out is not read: nothing is said to have stood there.
    for (const state of states.filter((each) => each !== newest && !kept.includes(each)))
      expect(await asOf(at(state)), day(state)).toEqual([]);
    const versions = await versionsIn(job, "backup");
    expect(versions.length).toBeGreaterThan(10);
  }, 180_000);

  /** All that is stored of versions, but for their numbers. */
  const stored = async (job: number) => {
    const { rows } = await bench.db.execute<Record<string, unknown>>(sql`
      select f.path, c.name, c.state, c.condition, c.size, c.present, c.moved_to, c.notes, i.lost, i.live, c.same_as
      from copies c join folders f on f.id = c.folder_id join items i on i.id = c.item_id
      where c.job_id = ${job} and c.place = 'backup' order by f.path, c.name, c.present, c.size`);
    return rows;
  };

  it("narrowed first and whole then stores every version once, with all its span; what was chosen meanwhile stays chosen", async () => {
    const path = unpackSet("linked-trees", bench.sources);
    const whole = await stored(await jobOver(bench, path, ["earlier-states"]));
    expect(whole.length).toBeGreaterThan(600);
    const dates = (setTruth("linked-trees").states ?? []).map(({ date = "" }) => date.slice(0, 10)).sort();
    const [early, middle, late] = [0.2, 0.5, 0.7].map((share) => dates[Math.floor(dates.length * share)] as string);
    for (const orders of [
      [{ statesFrom: early, statesTo: middle }, {}],
      [{ statesFrom: middle, statesTo: late }, { statesFrom: early, statesTo: middle }, {}],
    ]) {
      const job = await createJob(bench.db, { title: "Twice", client: "" });
      await addSource(bench.db, job, path);
      const [source] = await listSources(bench.db, job);
      let chosen: number[] = [];
      for (const options of orders) {
        await startPass(bench.db, job, source?.volumes[0]?.id as number, "earlier-states", options);
        await passesDone(bench, job);
        // Parts of one span, for all that is known so far: the later ones are chosen.
        const parts = (await versionsIn(job, "backup")).filter((each, _, all) =>
          all.some((other) => other.item_id === each.item_id && Number(other.id) < Number(each.id)),
        );
        if (chosen.length === 0) chosen = parts.slice(0, 5).map(({ id }) => Number(id));
        expect(chosen).toHaveLength(5);
        await changeTray(bench.db, job, { copies: chosen, chosen: true });
      }
      expect(await stored(job)).toEqual(whole);
      const { results } = await endedRestore(bench.db, job, await startRestore(bench.db, job, planTo(`Chosen after ${orders.length}`)));
      expect(results.map(({ state }) => state)).toEqual(Array.from(chosen, () => "verified"));
    }
  }, 240_000);

  it("stores every version once though it is paused, its worker killed, and its folder changed, in the midst of it", async () => {
    const path = unpackSet("linked-trees", bench.sources);
    const first = [...(setTruth("linked-trees").states ?? [])].sort((a, b) => (a.date ?? "").localeCompare(b.date ?? ""))[0];
    const job = await createJob(bench.db, { title: "Interrupted", client: "" });
    await addSource(bench.db, job, path);
    const [source] = await listSources(bench.db, job);
    const id = await startPass(bench.db, job, source?.volumes[0]?.id as number, "earlier-states");
    let paused = 0;
    for (const least of [40, 200, 400]) {
      await until(async () => {
        const [pass] = await listPasses(bench.db, job);
        return pass?.state === "done" || (await stored(job)).length > least;
      }, 60);
      if ((await listPasses(bench.db, job))[0]?.state === "done") break;
      await changePass(bench.db, id, "pause");
      await until(async () => (await listPasses(bench.db, job))[0]?.state !== "running", 60);
      paused += (await listPasses(bench.db, job))[0]?.state === "paused" ? 1 : 0;
      // What stands before all that was stored so far.
      if (paused === 1) writeFileSync(join(path, first?.folder ?? "", "Users/Added meanwhile.txt"), "as if the backup went on");
      if (paused === 2) {
        worker.kill("SIGKILL");
        worker = bench.worker(SMALL_BATCHES);
      }
      await changePass(bench.db, id, "run");
    }
    await passesDone(bench, job);
    expect(paused).toBeGreaterThan(1);
    const whole = await stored(await jobOver(bench, path, ["earlier-states"]));
    expect(whole.some(({ name }) => name === "Added meanwhile.txt")).toBe(true);
    expect(await stored(job)).toEqual(whole);
  }, 240_000);

  it("knows a file that was moved or renamed by what identifies it, and calls it neither gone nor lost", async () => {
    const root = join(bench.sources, "moved");
    const days = ["2026-02-01-080000", "2026-02-02-080000", "2026-02-03-080000", "2026-02-04-080000"];
    const at = (day: number, path: string) => join(root, "Desk", days[day] as string, "Disk", path);
    const put = (day: number, path: string, content: string) => {
      mkdirSync(join(at(day, path), ".."), { recursive: true });
      writeFileSync(at(day, path), content);
    };
    const link = (day: number, path: string, before = path) => {
      mkdirSync(join(at(day, path), ".."), { recursive: true });
      linkSync(at(day - 1, before), at(day, path));
    };
    const same = ["Users/ilse/kept.txt", "Users/ilse/twin a.txt", "Users/ilse/twin b.txt"];
    put(0, "Users/ilse/kept.txt", "stays where it is");
    put(0, "Users/ilse/twin a.txt", "one of two of the same content");
    put(0, "Users/ilse/twin b.txt", "one of two of the same content");
    put(0, "Users/ilse/draft.txt", "is renamed on the second day");
    put(0, "Users/ilse/Old folder/one.txt", "its folder is renamed on the third day");
    put(0, "Users/ilse/Old folder/two.txt", "its folder is renamed on the third day, this one too");
    put(0, "Users/ilse/thrown away.txt", "is deleted on the third day");
    put(0, "Users/ilse/replaced.txt", "is written anew");
    for (const path of [...same, "Users/ilse/Old folder/one.txt", "Users/ilse/Old folder/two.txt", "Users/ilse/thrown away.txt"])
      link(1, path);
    link(1, "Users/ilse/final.txt", "Users/ilse/draft.txt");
    put(1, "Users/ilse/replaced.txt", "is written anew, and longer");
    for (const path of [...same, "Users/ilse/final.txt", "Users/ilse/replaced.txt"]) link(2, path);
    link(2, "Users/ilse/New folder/one.txt", "Users/ilse/Old folder/one.txt");
    link(2, "Users/ilse/New folder/two.txt", "Users/ilse/Old folder/two.txt");
    // What is copied instead of moved is another file.
    put(2, "Users/ilse/thrown away, copied.txt", "is deleted on the third day");
    const last = [
      ...same,
      "Users/ilse/final.txt",
      "Users/ilse/replaced.txt",
      "Users/ilse/New folder/one.txt",
      "Users/ilse/New folder/two.txt",
    ];
    for (const path of last) link(3, path);
    const job = await jobOver(bench, root, ["earlier-states"]);
    const rows = (await stored(job)).map(
      (row) => ({ ...row, path: `${row.path}/${row.name}`.replace(/^.*\/ilse\//, "") }) as Record<string, unknown>,
    );
    const moved = rows
      .filter(({ moved_to: to }) => to !== null)
      .map(({ path, moved_to: to, state, lost }) => [path, String(to).replace(/^.*\/ilse\//, ""), state, lost]);
    expect(moved.sort()).toEqual([
      ["Old folder/one.txt", "New folder/one.txt", "live", false],
      ["Old folder/two.txt", "New folder/two.txt", "live", false],
      ["draft.txt", "final.txt", "live", false],
    ]);
    const notesOf = (path: string) => JSON.stringify(rows.filter((row) => row.path === path).map(({ notes }) => notes));
    expect(notesOf("draft.txt")).toMatch(/in the state after it the same file is “[^”]*\/ilse\/final.txt”/);
    expect(notesOf("final.txt")).toMatch(/In the state before, the same file was “[^”]*\/ilse\/draft.txt”/);
    expect(notesOf("thrown away.txt")).toContain("is not in the state after it");
    expect(
      rows
        .filter(({ lost }) => lost)
        .map(({ path }) => path)
        .sort(),
    ).toEqual(["thrown away, copied.txt", "thrown away.txt"]);
    const became = async (day: string) => {
      const { items } = await listItems(bench.db, job, query({ asOf: `${day}T12:00:00Z`, show: "all" }));
      return Object.fromEntries(items.map(({ folder, name, since }) => [`${folder}/${name}`.replace(/^.*\/ilse\//, ""), since]));
    };
    expect(await became("2026-02-01")).toMatchObject({
      "draft.txt": "moved",
      "Old folder/one.txt": "moved",
      "thrown away.txt": "gone",
      "replaced.txt": "changed",
      "kept.txt": "kept",
    });
    expect(await became("2026-02-03")).toMatchObject({
      "final.txt": "kept",
      "New folder/one.txt": "kept",
      "thrown away, copied.txt": "gone",
    });
    const { since } = await sinceFacet(bench.db, job, query({ asOf: "2026-02-01T12:00:00Z", show: "all" }));
    expect(since.find(({ value }) => value === "moved")?.count).toBe(3);
    const narrowed = await listItems(bench.db, job, query({ asOf: "2026-02-01T12:00:00Z", show: "all", since: "moved" }));
    expect(narrowed.items).toHaveLength(3);
  }, 120_000);

  it("gathers the versions of a backup with the client's own files when its folder is said to be the drive", async () => {
    const job = await createJob(bench.db, { title: "A drive and its backup", client: "" });
    for (const name of ["secretary-drive", "clubhouse-backup-disk"]) {
      const folder = join(bench.sources, name);
      layOut(JSON.parse(gunzipSync(readFileSync(`demo/images/${name}.json.gz`)).toString()) as PackedFiles, folder);
      await addSource(bench.db, job, folder);
    }
    const [drive, backup] = (await listSources(bench.db, job)).map(({ volumes }) => volumes[0]?.id as number) as [number, number];
    await startPass(bench.db, job, drive, "file-record");
    await startPass(bench.db, job, backup, "earlier-states");
    await passesDone(bench, job);
    const { homes, suggestions } = await listHomes(bench.db, job);
    const home = homes.find(({ stores }) => stores.some(({ storeId }) => storeId === drive))?.id as number;
    const below = "/mo/LARKFIELD-LT/Data/C";
    expect(suggestions).toEqual(expect.arrayContaining([expect.objectContaining({ storeId: backup, below, homeId: home })]));
    await changeHomes(bench.db, job, { store: backup, below, home, at: "" });
    const { items } = await listItems(bench.db, job, query({ show: "all", q: "observing workbook" }));
    const workbook = items.find(({ folder, name }) => `${folder}/${name}` === "/Users/mo/Documents/Observing workbook.xlsx");
    const detail = await findItem(bench.db, workbook?.id as number);
    expect(detail?.list.map(({ place }) => place).sort()).toEqual(["backup", "backup", "backup", "backup", "backup", "file-record"]);
    // As of the evening before the loss it is the sound one, and has changed since.
    const then = await listItems(bench.db, job, query({ show: "all", q: "observing workbook", home, asOf: "2026-03-10T12:00:00Z" }));
    const row = then.items.find(({ id }) => id === workbook?.id);
    expect(row).toMatchObject({ since: "changed" });
    expect(detail?.list.find(({ id }) => id === row?.copyThen)?.present?.from.toISOString()).toBe("2026-03-09T22:30:00.000Z");
    // What the drive has unchanged is the same as now.
    expect(then.items.every(({ since }) => since !== undefined)).toBe(true);
  }, 120_000);
});

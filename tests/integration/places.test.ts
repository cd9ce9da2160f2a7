import { createHash } from "node:crypto";
import { existsSync, mkdirSync, mkdtempSync, readFileSync, rmSync, statSync, symlinkSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import { gunzipSync } from "node:zlib";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { EMPTY_ACCOUNT } from "../../core/plan/account";
import { layOut } from "../../demo/lay-out";
import { saveAccounts } from "../../server/accounts/commands";
import { type Account, account } from "../../server/accounts/contract";
import { accountHistoryOf, findAccounts } from "../../server/accounts/queries";
import { itemQuery } from "../../server/items/contract";
import { listItems } from "../../server/items/list";
import { findItem, findStoredCopy } from "../../server/items/queries";
import { createJob } from "../../server/jobs/commands";
import { startPass } from "../../server/passes/commands";
import { listPasses } from "../../server/passes/queries";
import { addRule, removeRule, switchRule } from "../../server/places/commands";
import { newRule } from "../../server/places/contract";
import { activeRules, listRules } from "../../server/places/queries";
import { changePlan } from "../../server/plan/commands";
import { findFits } from "../../server/plan/fits";
import { findPlan } from "../../server/plan/queries";
import { wholeContent } from "../../server/previews/content";
import { startRestore } from "../../server/restores/commands";
import { rehearse } from "../../server/restores/rehearsal";
import { addSource } from "../../server/sources/commands";
import { listSources } from "../../server/sources/queries";
import { jobWith, startTestBench, type TestBench, until } from "../support/bench";
import { endedRestore, planTo } from "../support/restores";
import { fixture, readTruth } from "../support/volume-truth";

let bench: TestBench;
let folder: string;
beforeAll(async () => {
  bench = await startTestBench();
  folder = join(bench.sources, "drive");
  const packed = JSON.parse(gunzipSync(readFileSync("demo/images/secretary-drive.json.gz")).toString()) as Record<
    string,
    { content: string; modified: string }
  >;
  layOut(packed, folder);
  writeFileSync(join(bench.sources, "outside.txt"), "not part of the source");
  symlinkSync(join(bench.sources, "outside.txt"), join(folder, "Users/mo/Documents/a way out.txt"));
});
afterAll(() => bench.close());

const stated = (change: Partial<Account>): Account => ({ ...account.parse(EMPTY_ACCOUNT), ...change });
const query = (change: object) => itemQuery.parse(change);
const finished = (jobId: number) => until(async () => (await listPasses(bench.db, jobId)).every((pass) => pass.state === "done"));

describe("known places of a volume", () => {
  interface Bin {
    r?: string;
    originalPath?: string;
    deletedTime: string;
    folder?: boolean;
  }

  it("are stored once though the worker is killed, and gather with what the records hold about the same file", async () => {
    const { jobId, source } = await jobWith(bench, "ntfs-gpt");
    const volume = source.volumes.find((each) => each.filesystem === "ntfs");
    const id = await startPass(bench.db, jobId, volume?.id as number, "known-places");
    for (let kill = 0; kill < 2; kill += 1) {
      const worker = bench.worker({ COMPASS_BATCH: "4" });
      await until(async () => (await listPasses(bench.db, jobId))[0]?.state === "running");
      worker.kill("SIGKILL");
    }
    const worker = bench.worker();
    await until(async () => (await listPasses(bench.db, jobId))[0]?.state === "done", 40);
    await startPass(bench.db, jobId, volume?.id as number);
    await finished(jobId);
    worker.kill("SIGKILL");
    const { rows } = await bench.pool.query<{ found_path: string; name: string; path: string; deleted_at: Date; place: string }>(
      "select c.found_path, c.name, f.path, c.deleted_at, c.place from copies c join folders f on f.id = c.folder_id where c.pass_id = $1 and c.type = 'file'",
      [id],
    );
    expect(new Set(rows.map((row) => `${row.found_path} ${row.path} ${row.name}`)).size).toBe(rows.length);
    const truth = readTruth("ntfs-gpt") as unknown as { volume: { recycleBin: Bin[] } };
    const files = truth.volume.recycleBin.filter((each) => each.originalPath?.startsWith("C:") && !each.folder);
    for (const { r, originalPath, deletedTime } of files) {
      const path = originalPath?.slice(2).replaceAll("\\", "/").normalize("NFC");
      const row = rows.find((each) => `${each.path}/${each.name}`.normalize("NFC") === path);
      expect(row?.found_path).toBe(`/${r}`);
      expect(row?.deleted_at.toISOString()).toBe(new Date(deletedTime).toISOString());
    }
    // All that lay in the bin counts as lost, under its own name.
    const page = await listItems(bench.db, jobId, query({ place: "bin", q: "Vertrag" }));
    expect(page.items.map((item) => [item.name, item.lost])).toEqual([["Vertrag Ellsby.docx", true]]);
  });
});

describe("the versions that a Mac keeps of its documents", () => {
  it("gather in the item of their document, each of its own date, and come back byte for byte", async () => {
    const made = JSON.parse(fixture("document-versions.json.gz").toString()) as {
      files: Record<string, { content: string; modified: number; state: string }>;
      truth: { held: string; path: string | null }[];
    };
    const mac = join(bench.sources, "old mac");
    const live = Object.entries(made.files).filter(([, { state }]) => state === "live");
    layOut(
      Object.fromEntries(live.map(([path, file]) => [path, { ...file, modified: new Date(file.modified * 1000).toISOString() }])),
      mac,
    );
    const document = "Users/maribel/Documents/Observing report.rtf";
    mkdirSync(join(mac, "Users/maribel/Documents"), { recursive: true });
    writeFileSync(join(mac, document), "what it is today");
    const job = await createJob(bench.db, { title: "Versions", client: "" });
    await addSource(bench.db, job, mac);
    const [source] = await listSources(bench.db, job);
    for (const place of ["known-places", "file-record"] as const) await startPass(bench.db, job, source?.volumes[0]?.id as number, place);
    const worker = bench.worker();
    await finished(job);
    worker.kill("SIGKILL");
    const { items } = await listItems(bench.db, job, query({ show: "all", q: "Observing report" }));
    expect(items).toHaveLength(1);
    const list = (await findItem(bench.db, items[0]?.id as number))?.list ?? [];
    const versions = list.filter(({ place }) => place === "own-backup");
    const held = made.truth.filter(({ path }) => path === `/${document}`);
    expect(versions.map(({ found }) => found?.path).sort()).toEqual(held.map(({ held: path }) => path).sort());
    expect(list.filter(({ place }) => place === "file-record")).toHaveLength(1);
    for (const version of versions) {
      const truth = made.files[version.found?.path as string];
      expect(version.modified?.getTime()).toBe((truth?.modified ?? 0) * 1000);
      const stored = await findStoredCopy(bench.db, version.id);
      expect(stored && (await wholeContent(stored, 1 << 20, "file")).toString("base64")).toBe(truth?.content);
    }
  });
});

describe("a folder as a source", () => {
  let jobId: number;
  beforeAll(async () => {
    jobId = await createJob(bench.db, { title: "Drive", client: "" });
    await addSource(bench.db, jobId, folder);
  });

  it("is read file by file; a link is shown and never followed", async () => {
    const [source] = await listSources(bench.db, jobId);
    expect([source?.container, source?.volumes[0]?.filesystem]).toEqual(["folder", "folder"]);
    await startPass(bench.db, jobId, source?.volumes[0]?.id as number);
    const worker = bench.worker();
    await finished(jobId);
    worker.kill("SIGKILL");
    const page = await listItems(bench.db, jobId, query({ show: "all", q: "way out" }));
    const item = await findItem(bench.db, page.items[0]?.id as number);
    expect(item?.list[0]?.notes.join(" ")).toContain("never followed");
    expect(item?.size).toBe(0);
    await expect(addSource(bench.db, jobId, folder)).rejects.toThrow("already part of the job");
  });

  it("gives each copy's bytes as they are, and refuses a file that has become a link", async () => {
    const page = await listItems(bench.db, jobId, query({ show: "all", q: "Observing workbook" }));
    const copy = await findStoredCopy(bench.db, page.items.find((item) => item.name === "Observing workbook.xlsx")?.bestCopyId as number);
    if (!copy) throw new Error("no copy");
    const sha256 = (bytes: Uint8Array) => createHash("sha256").update(bytes).digest("hex");
    expect(sha256(await wholeContent(copy, 1 << 20, "file"))).toBe(
      sha256(readFileSync(join(folder, "Users/mo/Documents/Observing workbook.xlsx"))),
    );
    const elsewhere = (path: string) => ({ ...copy, file: copy.file && { ...copy.file, path } });
    await expect(wholeContent(elsewhere("Users/mo/Documents/a way out.txt"), 1 << 20, "file")).rejects.toThrow("ordinary file");
    await expect(wholeContent(elsewhere("../outside.txt"), 1 << 20, "file")).rejects.toThrow();
  });

  it("is never written into", async () => {
    const inside = join(bench.sources, "around");
    mkdirSync(join(inside, "delivery"), { recursive: true });
    const before = process.env.COMPASS_DELIVERY;
    process.env.COMPASS_DELIVERY = join(inside, "delivery");
    try {
      const other = await createJob(bench.db, { title: "Around", client: "" });
      await expect(addSource(bench.db, other, inside)).rejects.toThrow("lie in one another");
    } finally {
      process.env.COMPASS_DELIVERY = before;
    }
    const plan = planTo("Drive");
    expect((await rehearse(bench.db, jobId, plan)).refused).toBeNull();
    // Nor is a source of another job, wherever the delivery folder is set to later.
    const elsewhere = join(bench.sources, "of another job");
    mkdirSync(elsewhere);
    await addSource(bench.db, await createJob(bench.db, { title: "Another", client: "" }), elsewhere);
    process.env.COMPASS_DELIVERY = join(elsewhere, "out");
    try {
      expect((await rehearse(bench.db, jobId, plan)).refused).toMatch(/source “.*(destroy|lie in one another)/);
    } finally {
      process.env.COMPASS_DELIVERY = before;
    }
  });

  it("nor is anything written to the drive it is on, unless that is the bench's own", async ({ skip }) => {
    const shared = "/dev/shm";
    if (!existsSync(shared) || statSync(shared).dev === statSync(bench.sources).dev) skip();
    const drive = mkdtempSync(join(shared, "compass-drive-"));
    const before = { sources: process.env.COMPASS_SOURCES, delivery: process.env.COMPASS_DELIVERY };
    process.env.COMPASS_SOURCES = drive;
    process.env.COMPASS_DELIVERY = join(drive, "out");
    mkdirSync(join(drive, "Users"));
    try {
      const other = await createJob(bench.db, { title: "Same drive", client: "" });
      await expect(addSource(bench.db, other, join(drive, "Users"))).rejects.toThrow("on the same drive as the source");
      process.env.COMPASS_DELIVERY = before.delivery;
      await addSource(bench.db, other, join(drive, "Users"));
    } finally {
      process.env.COMPASS_SOURCES = before.sources;
      process.env.COMPASS_DELIVERY = before.delivery;
      rmSync(drive, { recursive: true });
    }
  });
});

describe("the plan of a job", () => {
  let jobId: number;
  beforeAll(async () => {
    jobId = await createJob(bench.db, { title: "Unsaved", client: "" });
    await addSource(bench.db, jobId, folder);
    await saveAccounts(bench.db, jobId, [
      stated({
        kinds: ["documents"],
        nameHint: "funding application",
        cause: "closed-unsaved",
        system: "windows",
        lost: { text: "12 March 2026", from: null, to: null },
      }),
    ]);
  });

  it("runs its steps in order, says what each found, and brings up the right file first", async () => {
    await changePlan(bench.db, jobId, { do: "run all" });
    const worker = bench.worker();
    await finished(jobId);
    worker.kill("SIGKILL");
    const { steps } = await findPlan(bench.db, jobId);
    const autosave = steps.find((step) => step.kind === "autosave");
    expect(autosave?.state).toBe("done");
    expect(autosave?.found.find((each) => each.place === "autosave")?.count).toBe(4);
    expect(steps.find((step) => step.kind === "snapshots")).toMatchObject({ state: "done", found: [] });
    expect(steps.find((step) => step.kind === "recent")?.found).toEqual([{ place: "recent", count: 2 }]);
    const [best] = await findFits(bench.db, jobId);
    expect(best).toMatchObject({ name: "Funding application.docx", folder: "/Users/mo/Documents/Funding" });
    expect(best?.places).toEqual(expect.arrayContaining(["autosave", "recent"]));
    const item = await findItem(bench.db, best?.itemId as number);
    expect(item?.list).toHaveLength(3);
    expect(item?.condition).toBe("whole");
  });

  it("restores the autosave copy under its right name, in the folder where the client had it", async () => {
    const [best] = await findFits(bench.db, jobId);
    await bench.pool.query("insert into tray_entries (job_id, item_id) values ($1, $2)", [jobId, best?.itemId]);
    const restoreId = await startRestore(bench.db, jobId, planTo("Unsaved"));
    const worker = bench.worker();
    const [result] = (await endedRestore(bench.db, jobId, restoreId)).results;
    worker.kill("SIGKILL");
    expect(result?.state).toBe("verified");
    expect(result?.output).toMatch(/Documents\/Funding\/Funding application\.docx$/);
    const original = readFileSync(join(folder, "Users/mo/AppData/Roaming/Letter Press/AutoRecovery save of Funding application.asd"));
    expect(readFileSync(result?.output as string).equals(original)).toBe(true);
    expect(existsSync(join(folder, "Users/mo/Documents/Funding/Funding application.docx"))).toBe(false);
  });

  it("keeps what the technician changes in it", async () => {
    const state = async (kind: string) => (await findPlan(bench.db, jobId)).steps.find((step) => step.kind === kind);
    await changePlan(bench.db, jobId, { do: "skip", key: "backups", why: "There is none." });
    expect(await state("backups")).toMatchObject({ state: "skipped", note: "There is none." });
    await changePlan(bench.db, jobId, { do: "take up", key: "backups" });
    expect((await state("backups"))?.state).toBe("to do");
    await changePlan(bench.db, jobId, { do: "done by hand", key: "backups", note: "An old set." });
    expect(await state("backups")).toMatchObject({ state: "done", note: "An old set." });
    const keys = (await findPlan(bench.db, jobId)).steps.map((step) => step.key).reverse();
    await changePlan(bench.db, jobId, { do: "order", keys });
    expect((await findPlan(bench.db, jobId)).steps.map((step) => step.key)).toEqual(keys);
    await changePlan(bench.db, jobId, { do: "add", kind: "profiles" });
    expect(await state("profiles")).toMatchObject({ state: "to do", reason: "Added by the technician." });
    const [best] = await findFits(bench.db, jobId);
    await changePlan(bench.db, jobId, { do: "found", itemId: best?.itemId as number });
    expect((await state("profiles"))?.state).toBe("not needed");
    expect((await findPlan(bench.db, jobId)).found?.name).toBe("Funding application.docx");
    await expect(changePlan(bench.db, jobId, { do: "run", key: "nothing:9" })).rejects.toThrow("not in the plan");
    await expect(changePlan(bench.db, jobId, { do: "run", key: "profiles" })).rejects.toThrow("by hand");
    await expect(changePlan(bench.db, jobId, { do: "found", itemId: 999_999_999 })).rejects.toThrow("no such item");
  });
});

describe("accounts", () => {
  it("keep what words for a time meant on the day they were said, and what was said before", async () => {
    const jobId = await createJob(bench.db, { title: "Described", client: "" });
    const said = stated({ lost: { text: "yesterday", from: null, to: null } });
    const first = await saveAccounts(bench.db, jobId, [said], Date.UTC(2026, 2, 10, 12));
    const later = await saveAccounts(bench.db, jobId, [{ ...said, nameHint: "minutes" }], Date.UTC(2026, 2, 20, 12));
    expect(later[0]?.lost).toEqual(first[0]?.lost);
    expect(later[0]?.lost?.from).toBe(Date.UTC(2026, 2, 9));
    expect(await findAccounts(bench.db, jobId)).toEqual(later);
    await bench.pool.query("update log_entries set at = at - interval '1 hour' where job_id = $1", [jobId]);
    await saveAccounts(bench.db, jobId, [stated({ nameHint: "minutes of March" })]);
    const history = await accountHistoryOf(bench.db, jobId);
    expect(history.map((each) => each.sentences.length)).toEqual([1, 1]);
    expect(history[0]?.sentences[0]).toContain("minutes of March");
  });
});

describe("rules of known places", () => {
  it("are switched off and on, and one's own comes first", async () => {
    await switchRule(bench.db, "windows-bin", true);
    expect((await activeRules(bench.db)).some((rule) => rule.id === "windows-bin")).toBe(false);
    await switchRule(bench.db, "windows-bin", false);
    const id = await addRule(bench.db, newRule.parse({ title: "Scores", system: "any", place: "own-backup", where: ["**/Scores/*~"] }));
    expect((await activeRules(bench.db))[0]?.id).toBe(id);
    expect((await listRules(bench.db)).find((rule) => rule.id === id)).toMatchObject({ own: true, off: false });
    const jobId = await createJob(bench.db, { title: "Own rule", client: "" });
    await addSource(bench.db, jobId, folder);
    const own = await addRule(
      bench.db,
      newRule.parse({ title: "Logs", system: "any", place: "own-backup", where: ["**/Logs/*.txt"], ties: "none" }),
    );
    const [source] = await listSources(bench.db, jobId);
    await startPass(bench.db, jobId, source?.volumes[0]?.id as number, "known-places", { places: ["own-backup"] });
    const worker = bench.worker();
    await finished(jobId);
    worker.kill("SIGKILL");
    const { rows } = await bench.pool.query<{ rule: string; count: number }>(
      "select rule, count(*)::int from copies where job_id = $1 group by 1 order by 2 desc",
      [jobId],
    );
    expect(rows[0]).toEqual({ rule: own, count: 20 });
    await removeRule(bench.db, own);
    await removeRule(bench.db, id);
    expect((await listRules(bench.db)).some((rule) => rule.id === id)).toBe(false);
    await expect(removeRule(bench.db, "windows-bin")).rejects.toThrow("switched off");
    await expect(
      addRule(bench.db, newRule.parse({ title: "Bad", system: "any", place: "autosave", where: ["**/*"], pattern: "(" })),
    ).rejects.toThrow("cannot be read");
  });
});

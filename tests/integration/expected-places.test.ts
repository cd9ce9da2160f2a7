import { mkdirSync, mkdtempSync, readdirSync, readFileSync, writeFileSync } from "node:fs";
import { tmpdir } from "node:os";
import { dirname, join, relative } from "node:path";
import initSql from "sql.js";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { type Item, itemQuery } from "../../server/items/contract";
import { storedCopy } from "../../server/previews/content";
import { recordCandidatesOf } from "../../server/records/candidates";
import { mentionedFilesOf } from "../../server/records/mentioned";
import { startRestore } from "../../server/restores/commands";
import type { RestorePlan } from "../../server/restores/contract";
import { rehearse } from "../../server/restores/rehearsal";
import { changeTray } from "../../server/tray/commands";
import { readFolder, startTestBench, type TestBench, until } from "../support/bench";
import { recordsFiles } from "../support/records-truth";
import { endedRestore, planTo } from "../support/restores";

let bench: TestBench;
let jobId: number;
let items: readonly Item[];
const replacement = mkdtempSync(join(tmpdir(), "compass-replacement-"));
const CHAT = "/Users/mo/AppData/Chat";
const archive = new Map<string, Buffer>();

/** A chat that has sent files, made by SQLite itself (the package sql.js). */
async function chat(): Promise<Uint8Array> {
  const sql = await initSql();
  const database = new sql.Database();
  database.run("create table lines(id integer primary key, body text, sent integer)");
  for (let i = 0; i < 40; i += 1)
    database.run("insert into lines values(?, ?, ?)", [i + 1, `Line ${i}`, Date.UTC(2025, 4, 1) + i * 60_000]);
  database.run(
    "create table attachments(id integer primary key, line_id integer, file_name text, file_size integer, kept text, done integer)",
  );
  const sent = [
    ["rota.csv", 700, "C:\\Users\\mo\\AppData\\Chat\\received\\rota.csv"],
    ["moon.png", 900, "C:\\users\\MO\\Pictures\\moon.png"],
    ["far.txt", 800, "D:\\Received\\far.txt"],
  ] as const;
  for (const [i, [name, size, path]] of sent.entries())
    database.run("insert into attachments values(?, ?, ?, ?, ?, ?)", [i + 1, i + 1, name, size, path, Date.UTC(2025, 4, 1) + i]);
  const bytes = database.export();
  database.close();
  return bytes;
}

beforeAll(async () => {
  process.env.COMPASS_REPLACEMENTS = replacement;
  bench = await startTestBench();
  const folder = join(bench.sources, "laptop");
  const put = (path: string, bytes: Uint8Array) => {
    mkdirSync(dirname(join(folder, path)), { recursive: true });
    writeFileSync(join(folder, path), bytes);
  };
  put(`${CHAT}/chat.db`, await chat());
  put(`${CHAT}/settings.json`, Buffer.from('{"name": "mo"}\n'));
  for (const [name, bytes] of recordsFiles("log")) {
    archive.set(name.replace("data.db", ""), bytes);
    put(`/Old profiles/archive${name.replace("data", "")}`, bytes);
  }
  put("/Found/without an ending", [...recordsFiles("plain").values()][0] as Buffer);
  put("/Found/rota.csv", Buffer.alloc(700, "rota"));
  put("/Found/IMG 1.png", Buffer.alloc(900, "moon"));
  put("/Found/far.txt", Buffer.alloc(800, "far"));
  ({ jobId, items } = await readFolder(bench, folder, "Chat"));
  bench.worker();
}, 120_000);
afterAll(async () => {
  delete process.env.COMPASS_REPLACEMENTS;
  await bench.close();
});

const copyOf = (name: string) => items.find((item) => item.name === name)?.bestCopyId as number;
const database = () => copyOf("chat.db");

/** Chooses the files the chat speaks of, as the view of its records does. */
async function chooseMentioned(): Promise<void> {
  await changeTray(bench.db, jobId, { everything: true, chosen: false });
  const { files } = await mentionedFilesOf(bench.db, await storedCopy(bench.db, database()), []);
  const expected = files.flatMap(({ path, found }) => found.slice(0, 1).map(({ copyId }) => ({ copyId, path })));
  await changeTray(bench.db, jobId, { chosen: true, database: database(), expected });
}
async function restored(destination: string, facts: Partial<RestorePlan> = {}) {
  const done = await endedRestore(bench.db, jobId, await startRestore(bench.db, jobId, planTo(destination, facts)));
  const where = Object.fromEntries(done.results.map(({ path, output }) => [path, output && relative(done.root, output)]));
  return { done, where };
}

describe("what an application expects", () => {
  it("is where its rows say, on the drive of the database; another drive is none of it", async () => {
    const { files } = await mentionedFilesOf(bench.db, await storedCopy(bench.db, database()), []);
    expect(files.map(({ name, expected, found }) => [name, expected, found[0]?.like])).toEqual([
      ["rota.csv", `${CHAT}/received/rota.csv`, "name-size"],
      ["moon.png", "/Users/mo/Pictures/moon.png", "size-type"],
      ["far.txt", null, "name-size"],
    ]);
  });

  it("gets the files there, under the names its rows have, and what is there is kept aside", async () => {
    await chooseMentioned();
    const there = join(bench.delivery, "Placed", "laptop", CHAT, "received");
    mkdirSync(there, { recursive: true });
    writeFileSync(join(there, "rota.csv"), "what the client has now");
    const plan = planTo("Placed", { conflict: "replace" });
    const { files, placed } = await rehearse(bench.db, jobId, plan);
    expect(placed).toBe(2);
    expect(files.map(({ path, placed: at, exists }) => [path, at, exists !== null])).toEqual([
      ["/Found/IMG 1.png", true, false],
      ["/Found/far.txt", false, false],
      ["/Found/rota.csv", true, true],
    ]);
    const { done, where } = await restored("Placed", { conflict: "replace" });
    expect(where).toEqual({
      "/Found/IMG 1.png": "laptop/Users/mo/Pictures/moon.png",
      "/Found/far.txt": "laptop/Found/far.txt",
      "/Found/rota.csv": `laptop${CHAT}/received/rota.csv`,
    });
    // What was rehearsed is what was done.
    expect(new Set(files.map(({ target }) => target))).toEqual(new Set(done.results.map(({ output }) => output)));
    expect(done.counts).toMatchObject({ verified: 3, placed: 2 });
    const aside = done.results.find(({ path }) => path === "/Found/rota.csv")?.aside as string;
    expect(readFileSync(aside, "utf8")).toBe("what the client has now");
  });

  it("is the place itself on a drive that takes the lost one's place", async () => {
    await chooseMentioned();
    const { where } = await restored("", { delivery: replacement });
    expect(where["/Found/IMG 1.png"]).toBe("Users/mo/Pictures/moon.png");
    expect(readdirSync(join(replacement, CHAT, "received"))).toEqual(["rota.csv"]);
  });

  it("means nothing where files lie without their folders", async () => {
    await chooseMentioned();
    expect((await rehearse(bench.db, jobId, planTo("Flat", { layout: "flat" }))).placed).toBe(0);
    const { done, where } = await restored("Flat", { layout: "flat" });
    expect(Object.values(where).sort()).toEqual(["IMG 1.png", "far.txt", "rota.csv"]);
    expect(done.counts.placed).toBe(0);
  });

  it("is another database in the place of its own, with its log; what was there goes aside with its own log", async () => {
    await changeTray(bench.db, jobId, { everything: true, chosen: false });
    await changeTray(bench.db, jobId, { chosen: true, database: database(), expected: [{ copyId: copyOf("archive.db"), path: null }] });
    const there = join(bench.delivery, "Old one", "laptop", CHAT);
    mkdirSync(there, { recursive: true });
    for (const name of ["chat.db", "chat.db-wal"]) writeFileSync(join(there, name), `the client's present ${name}`);
    const { done } = await restored("Old one", { conflict: "replace" });
    for (const [suffix, bytes] of archive) expect(readFileSync(join(there, `chat.db${suffix}`)).equals(bytes)).toBe(true);
    expect(done.results).toHaveLength(archive.size);
    const kept = readdirSync(there).filter(
      (name) => !["chat.db", ...[...archive.keys()].map((suffix) => `chat.db${suffix}`)].includes(name),
    );
    expect(kept.map((name) => readFileSync(join(there, name), "utf8")).sort()).toEqual([
      "the client's present chat.db",
      "the client's present chat.db-wal",
    ]);
  });

  it("goes with the tray: taken out and chosen again, a file has its own place", async () => {
    await chooseMentioned();
    const item = items.find(({ name }) => name === "rota.csv") as Item;
    await changeTray(bench.db, jobId, { items: [item.id], chosen: false });
    await changeTray(bench.db, jobId, { items: [item.id], chosen: true });
    const { files } = await rehearse(bench.db, jobId, planTo("Again"));
    expect(files.find(({ path }) => path === "/Found/rota.csv")).toMatchObject({ placed: false });
  });

  it("is refused for a database of another job", async () => {
    const change = { chosen: true, database: 999_999, expected: [{ copyId: copyOf("rota.csv"), path: null }] };
    await expect(changeTray(bench.db, jobId, change)).rejects.toThrow("no longer known in this job");
  });

  it("may be in a database of any name, once its content was looked into", async () => {
    const copy = await storedCopy(bench.db, copyOf("archive.db"));
    const found = async () => (await recordCandidatesOf(bench.db, copy)).candidates.map(({ name }) => name);
    expect(await found()).toEqual(["archive.db"]);
    await changeTray(bench.db, jobId, { copies: [copyOf("without an ending")], chosen: true });
    expect(await until(async () => (await found()).length > 1 && found())).toEqual(
      expect.arrayContaining(["archive.db", "without an ending"]),
    );
  });

  it("is all of its folder, chosen as one", async () => {
    await changeTray(bench.db, jobId, { everything: true, chosen: false });
    await changeTray(bench.db, jobId, { matching: itemQuery.parse({ folder: CHAT, show: "all" }), chosen: true });
    const { files } = await rehearse(bench.db, jobId, planTo("Profile"));
    expect(files.map(({ path }) => path)).toEqual([`${CHAT}/chat.db`, `${CHAT}/settings.json`]);
  });
});

import { mkdirSync, readdirSync, readFileSync, renameSync, writeFileSync } from "node:fs";
import { basename, dirname, join } from "node:path";
import { sql } from "drizzle-orm";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { itemQuery } from "../../server/items/contract";
import { listItems } from "../../server/items/list";
import { startRestore } from "../../server/restores/commands";
import type { RestorePlan } from "../../server/restores/contract";
import { changeTray } from "../../server/tray/commands";
import { enqueue } from "../../server/workers/queue";
import { readFolder, startTestBench, type TestBench } from "../support/bench";
import { recordsFiles } from "../support/records-truth";
import { endedRestore, planTo, type WholeRestore } from "../support/restores";

let bench: TestBench;
let jobId: number;
let database: Buffer;

beforeAll(async () => {
  bench = await startTestBench();
  const folder = join(bench.sources, "profile");
  mkdirSync(folder);
  database = [...recordsFiles("plain").values()][0] as Buffer;
  writeFileSync(join(folder, "history"), database);
  writeFileSync(join(folder, "history-wal"), "the log of the lost one\n");
  writeFileSync(join(folder, "alone-wal"), "a log without its database\n");
  writeFileSync(join(folder, "plain.txt"), "plain\n");
  ({ jobId } = await readFolder(bench, folder, "Profile"));
  bench.worker();
}, 120_000);
afterAll(() => bench.close());

/** Restores all of it into a folder in which these files are already. */
async function restored(
  destination: string,
  there: Readonly<Record<string, string>>,
  facts: Partial<RestorePlan> = {},
): Promise<WholeRestore> {
  await changeTray(bench.db, jobId, { everything: true, chosen: true });
  const folder = dirname(join(bench.delivery, destination, "profile", "x"));
  mkdirSync(folder, { recursive: true });
  for (const [name, text] of Object.entries(there)) writeFileSync(join(folder, name), text);
  return endedRestore(bench.db, jobId, await startRestore(bench.db, jobId, planTo(destination, facts)));
}
const outputs = (restore: WholeRestore) =>
  Object.fromEntries(
    restore.results.map(({ path, output, state }) => [basename(path), output && state === "verified" ? basename(output) : state]),
  );
const folderOf = (restore: WholeRestore) => dirname(restore.results.find(({ output }) => output)?.output as string);

describe("a database and its logs", () => {
  it("keep their names together where nothing is in the way", async () => {
    expect(outputs(await restored("Free", {}))).toEqual({
      history: "history",
      "history-wal": "history-wal",
      "alone-wal": "alone-wal",
      "plain.txt": "plain.txt",
    });
  });

  it("go together beside another database, and its logs stay its own", async () => {
    const there = { history: "another database", alone: "another one", "plain.txt": "another text" };
    const done = await restored("Beside", there);
    expect(outputs(done)).toEqual({
      history: "history (2)",
      "history-wal": "history (2)-wal",
      "alone-wal": "alone-wal (2)",
      "plain.txt": "plain (2).txt",
    });
    for (const [name, text] of Object.entries(there)) expect(readFileSync(join(folderOf(done), name), "utf8")).toBe(text);
    expect(readdirSync(folderOf(done))).not.toContain("history-wal");
  });

  it("are not taken under a name whose log somebody else has left there", async () => {
    for (const suffix of ["-wal", "-journal"]) {
      const done = await restored(`Left ${suffix}`, { [`history${suffix}`]: "left by another one" });
      expect(outputs(done)).toMatchObject({ history: "history (2)", "history-wal": "history (2)-wal" });
      expect(readFileSync(join(folderOf(done), `history${suffix}`), "utf8")).toBe("left by another one");
      expect(readFileSync(join(folderOf(done), "history (2)")).equals(database)).toBe(true);
    }
  });

  it("that are replaced are kept aside with their logs, which would be applied to the restored one", async () => {
    const done = await restored(
      "Replaced",
      { history: "another database", "history-journal": "its journal", "history-wal": "its log" },
      { conflict: "replace" },
    );
    expect(outputs(done)).toMatchObject({ history: "history", "history-wal": "history-wal" });
    const folder = folderOf(done);
    const names = readdirSync(folder);
    expect(names).not.toContain("history-journal");
    expect(readFileSync(join(folder, "history-wal"), "utf8")).toBe("the log of the lost one\n");
    const kept = names.filter((name) => name.includes("(replaced")).map((name) => readFileSync(join(folder, name), "utf8"));
    const main = done.results.find(({ path }) => path.endsWith("/history"));
    for (const name of names.filter((each) => /^history-.*\(replaced/.test(each))) expect(main?.problem).toContain(name);
    expect(kept.sort()).toEqual(["another database", "its journal", "its log"]);
  });

  it("that was replaced by a worker that ended just then has its logs put aside by the next one", async () => {
    const { items } = await listItems(bench.db, jobId, itemQuery.parse({ show: "all", q: "history" }));
    await changeTray(bench.db, jobId, { everything: true, chosen: false });
    await changeTray(bench.db, jobId, { items: items.filter(({ name }) => name === "history").map(({ id }) => id), chosen: true });
    const folder = join(bench.delivery, "Ended", "profile");
    mkdirSync(folder, { recursive: true });
    writeFileSync(join(folder, "history"), "another database");
    writeFileSync(join(folder, "history-wal"), "its log");
    const id = await startRestore(bench.db, jobId, planTo("Ended", { conflict: "replace" }));
    const done = await endedRestore(bench.db, jobId, id);
    const aside = () => readdirSync(folder).filter((name) => /^history-wal.*\(replaced/.test(name));
    expect(done.state).toBe("done");
    expect(aside()).toHaveLength(1);
    // As it stood between the database's getting its name and the log's being put aside.
    renameSync(join(folder, aside()[0] as string), join(folder, "history-wal"));
    await bench.db.execute(sql`update restore_results set state = 'writing' where restore_id = ${id}`);
    await bench.db.execute(sql`update restores set state = 'running' where id = ${id}`);
    await enqueue(bench.db, "restore", id);
    const again = await endedRestore(bench.db, jobId, id);
    expect(again.results).toMatchObject([{ state: "verified", output: join(folder, "history") }]);
    expect(readdirSync(folder)).not.toContain("history-wal");
    expect(readFileSync(join(folder, aside()[0] as string), "utf8")).toBe("its log");
    expect(again.results[0]?.problem).toContain(aside()[0]);
    expect(readFileSync(join(folder, "history")).equals(database)).toBe(true);
  });
});

import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { EMPTY_ACCOUNT } from "../../core/plan/account";
import { saveAccounts } from "../../server/accounts/commands";
import { type Account, account as accountContract } from "../../server/accounts/contract";
import { accountHistoryOf, findAccounts } from "../../server/accounts/queries";
import { changeJob, createJob } from "../../server/jobs/commands";
import { findJob, listJobs } from "../../server/jobs/queries";
import { note } from "../../server/log/commands";
import { listLog } from "../../server/log/queries";
import { followJob } from "../../server/workers/events";
import { beat, countWorkers, leave, releaseDead } from "../../server/workers/presence";
import { announce, enqueue } from "../../server/workers/queue";
import { startTestBench, type TestBench, until } from "../support/bench";

let bench: TestBench;
beforeAll(async () => {
  bench = await startTestBench();
  process.env.COMPASS_DEAD_AFTER = "3";
});
afterAll(() => bench.close());

const newJob = (title: string) => createJob(bench.db, { title, client: "" });
const stated = (values: Partial<Account>): Account => accountContract.parse({ ...EMPTY_ACCOUNT, ...values });

describe("a job", () => {
  it("is listed with the one last worked on first, and moves into the archive and out of it", async () => {
    const [first, second] = [await newJob("First"), await newJob("Second")];
    const order = async () => (await listJobs(bench.db)).map((job) => job.id).filter((id) => id === first || id === second);
    expect(await order()).toEqual([second, first]);
    await note(bench.db, first, "Looked at again");
    expect(await order()).toEqual([first, second]);
    await changeJob(bench.db, second, { archived: true });
    expect((await findJob(bench.db, second))?.archived).toBe(true);
    await changeJob(bench.db, second, { archived: false });
    expect(await findJob(bench.db, second)).toMatchObject({
      archived: false,
      title: "Second",
      lostItems: { whole: 0, partial: 0, "not-checked": 0, "name-only": 0 },
      searched: false,
      restored: 0,
      running: 0,
      sources: 0,
      lost: null,
    });
    expect((await listLog(bench.db, second)).map((entry) => entry.what)).toEqual([
      "Job opened",
      "Job archived",
      "Job taken out of the archive",
    ]);
    expect(await findJob(bench.db, 999_999)).toBeNull();
  });

  it("that is not there is not noted in any log", async () => {
    await expect(note(bench.db, 999_999, "Nothing")).rejects.toThrow();
    await expect(changeJob(bench.db, 999_999, { timeZone: "Europe/Berlin" })).rejects.toThrow();
  });
});

describe("what the client said", () => {
  it("is one change in the history while it is typed, and another one later", async () => {
    const id = await newJob("Typed letter by letter");
    for (const nameHint of ["F", "Fu", "Fun", "Funding"]) await saveAccounts(bench.db, id, [stated({ nameHint })]);
    const history = await accountHistoryOf(bench.db, id);
    expect(history).toHaveLength(1);
    expect(history[0]?.sentences.join()).toContain("Funding");
    // Two minutes and more later it is a change of its own.
    await bench.pool.query("update log_entries set at = at - interval '130 seconds' where job_id = $1", [id]);
    await saveAccounts(bench.db, id, [stated({ nameHint: "Funding" }), stated({ nameHint: "Budget" })]);
    expect((await accountHistoryOf(bench.db, id)).map((each) => each.sentences.length)).toEqual([2, 1]);
    // Something else done in between ends a change too.
    await note(bench.db, id, "Source added");
    await saveAccounts(bench.db, id, [stated({ nameHint: "Funding plan" })]);
    expect(await accountHistoryOf(bench.db, id)).toHaveLength(3);
    expect((await findAccounts(bench.db, id)).map((each) => each.nameHint)).toEqual(["Funding plan"]);
  });

  it("is the last one's whole, when two windows save at once", async () => {
    const id = await newJob("Two windows");
    const [one, other] = [[stated({ nameHint: "one" })], [stated({ nameHint: "two" }), stated({ nameHint: "three" })]];
    await Promise.all(Array.from({ length: 6 }, (_, i) => saveAccounts(bench.db, id, i % 2 ? one : other)));
    const names = (await findAccounts(bench.db, id)).map((each) => each.nameHint);
    expect([["one"], ["two", "three"]]).toContainEqual(names);
  });

  it("keeps what words for a time meant when they were first said", async () => {
    const id = await newJob("Two weeks ago");
    const day = 86_400_000;
    const now = Date.UTC(2026, 2, 20, 12);
    const said = (nameHint: string) => [stated({ nameHint, lost: { text: "yesterday", from: null, to: null } })];
    const [first] = await saveAccounts(bench.db, id, said("a"), now);
    expect(first?.lost?.from).toBe(Date.UTC(2026, 2, 19));
    const [later] = await saveAccounts(bench.db, id, said("b"), now + 5 * day);
    expect(later?.lost).toEqual(first?.lost);
    const [another] = await saveAccounts(bench.db, id, [stated({ lost: { text: "whenever it was", from: null, to: null } })], now);
    expect(another?.lost).toEqual({ text: "whenever it was", from: null, to: null });
  });
});

describe("workers", () => {
  const worker = (id: string, queueNames: string[] = []) => ({ id, host: "bench", pid: 1, queueNames });

  it("count while they give signs of life; the work of dead ones is freed", async () => {
    const before = await countWorkers(bench.db);
    await beat(bench.db, worker("one", ["q1"]));
    await beat(bench.db, worker("two"));
    await beat(bench.db, worker("two"));
    expect(await countWorkers(bench.db)).toBe(before + 2);
    await bench.pool.query("update workers set last_seen = now() - interval '10 seconds' where id = 'one'");
    expect(await countWorkers(bench.db)).toBe(before + 1);
    expect(await releaseDead(bench.db)).toBe(1);
    expect(await releaseDead(bench.db)).toBe(0);
    await leave(bench.db, "two");
    expect(await countWorkers(bench.db)).toBe(before);
  });

  it("are given a piece of work once, however often it is asked for while it waits", async () => {
    const waiting = async (key: string) =>
      Number((await bench.pool.query("select count(*) from graphile_worker.jobs where key = $1", [key])).rows[0]?.count);
    for (let i = 0; i < 3; i += 1) await enqueue(bench.db, "equals", 4711);
    expect(await waiting("equals:4711")).toBe(1);
    // Asked for within a transaction that fails, it was never asked for.
    await bench.db
      .transaction(async (tx) => {
        await enqueue(tx, "facts", 4711);
        throw new Error("undone");
      })
      .catch(() => undefined);
    expect(await waiting("facts:4711")).toBe(0);
  });
});

describe("following a job", () => {
  it("hears of its changes and of no other's, until it stops listening", async () => {
    const [mine, other] = [await newJob("Followed"), await newJob("Not followed")];
    const stop = new AbortController();
    const reader = followJob(mine, stop.signal).getReader();
    let heard = "";
    void (async () => {
      for (;;) {
        const { done, value } = await reader.read();
        if (done) return;
        heard += new TextDecoder().decode(value);
      }
    })();
    const changes = () => heard.split("event: changed").length - 1;
    await until(async () => changes() === 1);
    // The listening connection comes up by itself: it is asked until it is there.
    await until(async () => {
      await announce(bench.db, mine);
      await new Promise((done) => setTimeout(done, 50));
      return changes() > 1;
    });
    const known = changes();
    await announce(bench.db, other);
    await new Promise((done) => setTimeout(done, 300));
    expect(changes()).toBe(known);
    expect(heard).toMatch(/^retry: \d+\n\n/);
    expect(heard).not.toContain("event: settled");
    await announce(bench.db, mine, "settled");
    await until(async () => heard.includes("event: settled"));
    expect(changes()).toBe(known);
    stop.abort();
    await announce(bench.db, mine);
    await new Promise((done) => setTimeout(done, 300));
    expect(changes()).toBe(known);
  });
});

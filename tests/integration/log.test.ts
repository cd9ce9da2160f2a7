import { mkdtempSync, readFileSync, writeFileSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { eq, sql } from "drizzle-orm";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { followChain } from "../../io/log-chain";
import { verifyHandover } from "../../io/verify-handover";
import { saveAccounts } from "../../server/accounts/commands";
import { account } from "../../server/accounts/contract";
import { accountHistoryOf } from "../../server/accounts/queries";
import { jobs } from "../../server/database/schema";
import { reportAsJson } from "../../server/handover/forms";
import { gatherReport } from "../../server/handover/report";
import { changeJob, createJob } from "../../server/jobs/commands";
import { note } from "../../server/log/commands";
import { listLog } from "../../server/log/queries";
import { startTestBench, type TestBench } from "../support/bench";

let bench: TestBench;
const work = mkdtempSync(join(tmpdir(), "compass-log-"));
beforeAll(async () => {
  bench = await startTestBench();
});
afterAll(() => bench.close());

async function handover(jobId: number, name: string, change: (data: Record<string, unknown>) => void = () => undefined): Promise<string> {
  let text = "";
  for await (const piece of reportAsJson(await gatherReport(bench.db, jobId))) text += piece;
  const data = JSON.parse(text);
  change(data);
  writeFileSync(join(work, name), JSON.stringify(data));
  return join(work, name);
}

describe("the log of a job", () => {
  it("is a chain, also where much is noted at once, and each job has its own", async () => {
    const [one, two] = [await createJob(bench.db, { title: "One", client: "" }), await createJob(bench.db, { title: "Two", client: "" })];
    await Promise.all(
      Array.from({ length: 60 }, (_, index) => {
        const detail = {
          number: index,
          words: `„${index}“ \\ \n\u2028`,
          at: new Date(index),
          none: undefined,
          small: 1e-7,
          list: [null, index / 3],
        };
        const jobId = index % 3 === 0 ? two : one;
        return index % 2 === 0 ? note(bench.db, jobId, "Noted", detail) : bench.db.transaction((tx) => note(tx, jobId, "Noted", detail));
      }),
    );
    for (const [jobId, most] of [
      [one, 40],
      [two, 20],
    ] as const) {
      const log = await listLog(bench.db, jobId);
      const chain = followChain(log);
      expect(chain).toMatchObject({ broken: [], unchained: 0, agreed: log.length });
      expect(log.filter(({ what }) => what === "Noted")).toHaveLength(most);
      const [job] = await bench.db.select().from(jobs).where(eq(jobs.id, jobId));
      expect(job?.logHash).toBe(chain.last);
    }
  });

  it("is kept by every command that notes something: an account typed letter by letter, a changed job", async () => {
    const jobId = await createJob(bench.db, { title: "Typed", client: "" });
    for (const nameHint of ["F", "Fu", "Fun"]) await saveAccounts(bench.db, jobId, [account.parse({ nameHint })]);
    await changeJob(bench.db, jobId, { timeZone: "Europe/Berlin" });
    await saveAccounts(bench.db, jobId, [account.parse({ nameHint: "Funding" })]);
    const log = await listLog(bench.db, jobId);
    expect(followChain(log)).toMatchObject({ broken: [], unchained: 0 });
    expect(log.length).toBeGreaterThan(5);
    expect((await accountHistoryOf(bench.db, jobId)).map(({ sentences }) => sentences.length)).toEqual([1, 1]);
  });

  it("does not advance with a transaction that was taken back", async () => {
    const jobId = await createJob(bench.db, { title: "Taken back", client: "" });
    await bench.db
      .transaction(async (tx) => {
        await note(tx, jobId, "Never happened");
        throw new Error("back");
      })
      .catch(() => undefined);
    await note(bench.db, jobId, "Happened");
    expect(followChain(await listLog(bench.db, jobId)).broken).toEqual([]);
  });

  it("that was changed in the database is found out by the handover alone", async () => {
    const jobId = await createJob(bench.db, { title: "Changed", client: "" });
    for (const what of ["First", "Second", "Third"]) await note(bench.db, jobId, what, { what });
    const good = await handover(jobId, "good.json");
    expect(verifyHandover(good)).toMatchObject({ problems: [], unchained: 0 });
    expect(verifyHandover(good).agreed).toBeGreaterThan(3);
    await bench.db.execute(sql`update log_entries set detail = '{"what": "Other"}' where job_id = ${jobId} and what = 'Second'`);
    expect(verifyHandover(await handover(jobId, "changed.json")).problems).toHaveLength(1);
    await bench.db.execute(sql`delete from log_entries where job_id = ${jobId} and what = 'Second'`);
    expect(verifyHandover(await handover(jobId, "deleted.json")).problems.length).toBeGreaterThan(0);
  });

  it("cut short or emptied in the file itself, and no handover at all, is said", async () => {
    const jobId = await createJob(bench.db, { title: "Cut", client: "" });
    await note(bench.db, jobId, "Something");
    const cut = await handover(jobId, "cut.json", (data) => (data.log as unknown[]).pop());
    expect(verifyHandover(cut).problems.join()).toContain("does not end with the hash");
    const empty = await handover(jobId, "empty.json", (data) => {
      data.log = [];
    });
    expect(verifyHandover(empty).problems).toHaveLength(1);
    writeFileSync(join(work, "none.json"), readFileSync(cut, "utf8").slice(0, 200));
    expect(verifyHandover(join(work, "none.json")).problems.join()).toContain("no handover");
    expect(verifyHandover(work).problems.join()).toContain("no plain file");
  });
});

import { mkdirSync, rmSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import { eq, sql } from "drizzle-orm";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { logEntries, shares } from "../../server/database/schema";
import type { Item } from "../../server/items/contract";
import { itemQuery } from "../../server/items/contract";
import { joinItems } from "../../server/items/join";
import { listItems } from "../../server/items/list";
import { startRestore } from "../../server/restores/commands";
import { type Access, accessOf, enter, leave, permitted, sessionCookie } from "../../server/shares/access";
import { choose, makeShare, revokeShare, takeChoices } from "../../server/shares/commands";
import { type NewShare, newShare } from "../../server/shares/contract";
import { chosenAsZip, foundFile } from "../../server/shares/downloads";
import {
  checkSharedCopy,
  checkSharedRestore,
  listSharedFiles,
  listSharedRestores,
  listShares,
  sharedItems,
  sumChoices,
} from "../../server/shares/queries";
import { whileOpen } from "../../server/shares/while-open";
import { changeTray } from "../../server/tray/commands";
import { sha256 } from "../support/backup-truth";
import { readFolder, searchedJob, startTestBench, type TestBench } from "../support/bench";
import { endedRestore, planTo } from "../support/restores";
import { unzipped } from "../support/unzipped";

let bench: TestBench;
let jobId: number;
let otherJob: number;
let items: Item[];

beforeAll(async () => {
  process.env.COMPASS_SHARE_HOST = "192.0.2.7";
  bench = await startTestBench();
  jobId = await searchedJob(bench, "ntfs-gpt");
  const folder = join(bench.sources, "another client");
  mkdirSync(folder);
  writeFileSync(join(folder, "of another client.txt"), "nothing for you\n");
  ({ jobId: otherJob } = await readFolder(bench, folder, "Another job"));
  items = (await listItems(bench.db, jobId, itemQuery.parse({ limit: 20, condition: "whole" }))).items;
}, 120_000);
afterAll(async () => {
  delete process.env.COMPASS_SHARE_HOST;
  await bench.close();
});

interface Made {
  readonly id: number;
  readonly secret: string;
  readonly password: string;
}
async function made(facts: Partial<NewShare> = {}, job = jobId): Promise<Made> {
  const { id, address, password } = await makeShare(bench.db, job, newShare.parse({ scope: "job", days: 7, ...facts }));
  return { id, password, secret: address.split("/").at(-1) as string };
}
const open = async ({ secret, password }: Made) => {
  const { session } = await enter(bench.db, secret, password, "192.0.2.99");
  return { session, access: (await accessOf(bench.db, secret, session)) as Access };
};
const requestWith = (session?: string) => new Request("http://x/", { headers: session ? { cookie: `other=1; share=${session}` } : {} });

describe("a shared link", () => {
  it("begins with the address clients reach, and neither its secret nor its password is kept anywhere", async () => {
    const { address, password, id } = await makeShare(bench.db, jobId, newShare.parse({ scope: "job", days: 7, label: "Larkfield" }));
    expect(address).toMatch(/^http:\/\/192\.0\.2\.7:\d+\/shared\/[\w-]{43}$/);
    const { session } = await open({ id, password, secret: address.split("/").at(-1) as string });
    const { rows } = await bench.db.execute<{ all: string }>(sql`
      select (select json_agg(s)::text from shares s) || (select json_agg(s)::text from share_sessions s)
        || (select json_agg(l)::text from log_entries l) as all`);
    for (const secret of [address.slice(-43), password, session]) expect(rows[0]?.all).not.toContain(secret);
  });

  it("lets nobody in without its password, and says nothing of links that are not there", async () => {
    const share = await made();
    await expect(permitted(bench.db, share.secret, requestWith())).rejects.toMatchObject({ status: 401 });
    await expect(permitted(bench.db, share.secret, requestWith("x".repeat(43)))).rejects.toMatchObject({ status: 401 });
    await expect(enter(bench.db, share.secret, "not the word", "here")).rejects.toMatchObject({ status: 403 });
    const words: string[] = [];
    for (const secret of ["x".repeat(43), "", "../../etc", `${share.secret}x`])
      await accessOf(bench.db, secret, undefined).catch((error: Error) => words.push(error.message));
    expect(new Set(words).size).toBe(1);
    expect(words).toHaveLength(4);
  });

  it("a session is for its own link alone, ends when it is closed, and its cookie goes nowhere else", async () => {
    const [one, other] = [await made(), await made({}, otherJob)];
    const { session } = await open(one);
    expect((await permitted(bench.db, one.secret, requestWith(session))).jobId).toBe(jobId);
    expect(await accessOf(bench.db, other.secret, session)).toBeNull();
    const cookie = sessionCookie(one.secret, session, new Date(), true);
    for (const part of [`Path=/shared/${one.secret}`, "HttpOnly", "SameSite=Strict", "Secure"]) expect(cookie).toContain(part);
    await leave(bench.db, session);
    expect(await accessOf(bench.db, one.secret, session)).toBeNull();
  });

  it("guessing is slowed down for good, also many at once; the right word does not get past the waiting", async () => {
    const share = await made({ password: "a long enough word" });
    const guesses = await Promise.allSettled(
      Array.from({ length: 30 }, (_, number) => enter(bench.db, share.secret, `guess number ${number}`, "192.0.2.1")),
    );
    const status = guesses.map((guess) => (guess as PromiseRejectedResult).reason.status as number);
    // Five are looked at, or turned away because too many are on their way; all others have to wait.
    expect(status.filter((code) => code === 403).length).toBeLessThanOrEqual(5);
    expect(status.every((code) => code === 403 || code === 429)).toBe(true);
    const [row] = await bench.db.select().from(shares).where(eq(shares.id, share.id));
    expect(row?.tries).toBe(5);
    await expect(enter(bench.db, share.secret, share.password, "here")).rejects.toMatchObject({ status: 429 });
    // Each further wrong word doubles the wait, up to an hour.
    const waits: number[] = [];
    for (let more = 0; more < 10; more += 1) {
      await bench.db.execute(sql`update shares set next_try_at = now() - interval '1 second' where id = ${share.id}`);
      await expect(enter(bench.db, share.secret, "wrong again", "here")).rejects.toMatchObject({ status: 403 });
      const { rows } = await bench.db.execute<{ wait: number }>(
        sql`select round(extract(epoch from next_try_at - now()))::int as wait from shares where id = ${share.id}`,
      );
      waits.push(rows[0]?.wait as number);
    }
    for (const [index, wait] of waits.entries()) {
      const whole = Math.min(3600, 60 * 2 ** index);
      // A busy computer looks at it some seconds later.
      expect(wait).toBeLessThanOrEqual(whole + 1);
      expect(wait).toBeGreaterThan(whole - 25);
    }
    await bench.db.execute(sql`update shares set next_try_at = now() - interval '1 second' where id = ${share.id}`);
    await open(share);
    const [after] = await bench.db.select().from(shares).where(eq(shares.id, share.id));
    expect(after).toMatchObject({ tries: 0, nextTryAt: null });
    const noted = await bench.db.select().from(logEntries).where(eq(logEntries.jobId, jobId));
    const wrong = noted.filter(
      ({ what, detail }) => what === "Wrong password for a shared link" && (detail as { link: number }).link === share.id,
    );
    expect(wrong.length).toBeGreaterThanOrEqual(10);
    expect(JSON.stringify(wrong)).not.toContain("guess number");
  });

  it("ends by its date and by hand, at once, also for who is in", async () => {
    const [dated, ended] = [await made(), await made()];
    const [one, other] = [await open(dated), await open(ended)];
    await bench.db.execute(sql`update shares set ends_at = now() - interval '1 second' where id = ${dated.id}`);
    await revokeShare(bench.db, jobId, ended.id);
    for (const [{ secret, password }, { session }] of [
      [dated, one],
      [ended, other],
    ] as const) {
      await expect(accessOf(bench.db, secret, session)).rejects.toMatchObject({ status: 404 });
      await expect(enter(bench.db, secret, password, "here")).rejects.toMatchObject({ status: 404 });
    }
    const states = new Map((await listShares(bench.db, jobId)).shares.map(({ id, state }) => [id, state]));
    expect([states.get(dated.id), states.get(ended.id)]).toEqual(["ended", "revoked"]);
    await expect(revokeShare(bench.db, otherJob, dated.id)).rejects.toMatchObject({ status: 404 });
  });

  it("leads to its own job alone: copies and restores of another one are not there", async () => {
    const { access } = await open(await made());
    const [foreign] = (await listItems(bench.db, otherJob, itemQuery.parse({ show: "all", limit: 1 }))).items as [Item];
    await expect(checkSharedCopy(bench.db, access, foreign.bestCopyId)).rejects.toMatchObject({ status: 404 });
    await checkSharedCopy(bench.db, access, items[0]?.bestCopyId as number);
    await choose(bench.db, access, [foreign.bestCopyId], true);
    expect(await sumChoices(bench.db, access)).toEqual({ files: 0, bytes: 0 });
    await expect(checkSharedRestore(bench.db, access, 999_999)).rejects.toMatchObject({ status: 404 });
  });

  it("a link to the handover alone does not lead to what was found", async () => {
    const { secret, ...rest } = await made({ scope: "handover" });
    const { session } = await open({ secret, ...rest });
    await expect(permitted(bench.db, secret, requestWith(session), "job")).rejects.toMatchObject({ status: 404 });
    expect((await permitted(bench.db, secret, requestWith(session))).scope).toBe("handover");
  });

  it("its password has a shortest length, and it lasts no longer than may be", () => {
    expect(newShare.safeParse({ scope: "job", days: 7, password: "too short" }).success).toBe(false);
    expect(newShare.safeParse({ scope: "job", days: 91 }).success).toBe(false);
    expect(newShare.safeParse({ scope: "all", days: 1 }).success).toBe(false);
  });

  it("cannot be made where sharing is not switched on", async () => {
    delete process.env.COMPASS_SHARE_HOST;
    try {
      await expect(made()).rejects.toThrow(/not switched on/);
      expect((await listShares(bench.db, jobId)).address).toBeNull();
    } finally {
      process.env.COMPASS_SHARE_HOST = "192.0.2.7";
    }
  });
});

describe("what a client does by a link", () => {
  it("chooses from the list; the choice outlives joined items, and the technician takes it over", async () => {
    const share = await made();
    const { access } = await open(share);
    const page = await sharedItems(bench.db, access, { q: "", show: "lost" });
    expect(page.items.length).toBeGreaterThan(3);
    const [first, second, third] = page.items as [(typeof page.items)[0], (typeof page.items)[0], (typeof page.items)[0]];
    await choose(bench.db, access, [first.copyId, second.copyId, third.copyId], true);
    await choose(bench.db, access, [second.copyId], false);
    const chosen = await sharedItems(bench.db, access, { q: "", show: "chosen" });
    expect(chosen.items.map(({ id }) => id).sort()).toEqual([first.id, third.id].sort());
    expect(await sumChoices(bench.db, access)).toEqual({ files: 2, bytes: first.size + third.size });
    // Another link of the same job has choices of its own.
    const { access: other } = await open(await made());
    expect((await sumChoices(bench.db, other)).files).toBe(0);
    await joinItems(bench.db, jobId, third.id, second.id, "Joined for this test.");
    expect(await sumChoices(bench.db, access)).toMatchObject({ files: 2 });
    const listed = async () => (await listShares(bench.db, jobId)).shares.find(({ id }) => id === share.id);
    expect(await listed()).toMatchObject({ chosen: 2, waiting: 2 });
    await changeTray(bench.db, jobId, { everything: true, chosen: false });
    await takeChoices(bench.db, jobId, share.id);
    expect(await listed()).toMatchObject({ chosen: 2, waiting: 0 });
    const { rows } = await bench.db.execute<{ item_id: string }>(sql`select item_id from tray_entries where job_id = ${jobId}`);
    expect(rows.map((row) => Number(row.item_id)).sort()).toEqual([first.id, second.id].sort());
  });

  it("gets the restored files that stand as they were written, and no others", async () => {
    bench.worker();
    await changeTray(bench.db, jobId, { everything: true, chosen: false });
    await changeTray(bench.db, jobId, { items: items.slice(0, 8).map(({ id }) => id), chosen: true });
    const id = await startRestore(bench.db, jobId, planTo("For the client"));
    const done = await endedRestore(bench.db, jobId, id);
    const { access } = await open(await made({ scope: "handover" }));
    const [restore] = await listSharedRestores(bench.db, access);
    expect(restore).toMatchObject({ id, files: done.counts.verified });
    const { files } = await listSharedFiles(bench.db, id, 0);
    expect(files.map(({ id: result }) => result)).toEqual(
      done.results.filter(({ state }) => state === "verified").map(({ id: result }) => result),
    );
    rmSync(done.results[0]?.output as string);
    expect((await listSharedFiles(bench.db, id, 0)).files).toHaveLength(files.length - 1);
    // No path of this computer is given away.
    expect(JSON.stringify(files)).not.toContain(bench.delivery);
  });

  it("what is chosen comes as a ZIP: lost bytes are zeros, another file’s too, and each is described in words", async () => {
    const gappedJob = await searchedJob(bench, "ntfs-mbr");
    const found = async (condition: "partial" | "whole") =>
      (await listItems(bench.db, gappedJob, itemQuery.parse({ limit: 40, condition }))).items.filter(({ survival }) => survival > 0);
    const [partial, whole] = [await found("partial"), await found("whole")];
    const share = await made({}, gappedJob);
    const { access } = await open(share);
    const given = [...partial, ...whole.slice(0, 3)];
    await choose(
      bench.db,
      access,
      given.map(({ bestCopyId }) => bestCopyId),
      true,
    );
    await expect(foundFile(bench.db, access, partial[0]?.bestCopyId as number)).rejects.toMatchObject({ status: 409 });
    const zip = await unzipped(Buffer.from(await (await chosenAsZip(bench.db, access)).arrayBuffer()));
    const remarks = zip.get("Remarks.txt")?.toString() ?? "";
    expect(zip.size).toBe(given.length + 1);
    // A restore of the same copies says what their own bytes are.
    bench.worker();
    await changeTray(bench.db, gappedJob, { everything: true, chosen: false });
    await changeTray(bench.db, gappedJob, { copies: given.map(({ bestCopyId }) => bestCopyId), chosen: true });
    const done = await endedRestore(bench.db, gappedJob, await startRestore(bench.db, gappedJob, planTo("The same")));
    const hashes = [...zip].filter(([name]) => name !== "Remarks.txt").map(([, bytes]) => sha256(bytes));
    expect(hashes.sort()).toEqual(done.results.map((result) => result.sha256).sort());
    for (const { name } of partial) expect(remarks).toContain(`${name}: damaged`);
    const gapped = done.results.filter(({ gaps }) => gaps);
    expect(gapped.length).toBeGreaterThan(0);
    for (const { path, gaps } of gapped) {
      const missing = [...(gaps?.unreadable ?? []), ...(gaps?.foreign ?? [])].reduce((sum, { start, end }) => sum + end - start, 0);
      expect(remarks).toContain(`${path.split("/").at(-1)}: ${missing} bytes of it could not be read`);
    }
  }, 60_000);

  it("a download that is on its way breaks off when its link is ended", async () => {
    const share = await made();
    const { access } = await open(share);
    const endless = new ReadableStream<Uint8Array>({
      async pull(controller) {
        await new Promise((go) => setTimeout(go, 50));
        controller.enqueue(new Uint8Array(10));
      },
    });
    const reader = whileOpen(bench.db, access, new Response(endless)).body?.getReader() as ReadableStreamDefaultReader<Uint8Array>;
    expect((await reader.read()).value).toHaveLength(10);
    await revokeShare(bench.db, jobId, share.id);
    const all = async () => {
      while (!(await reader.read()).done);
    };
    await expect(all()).rejects.toThrow("the link was ended");
  });
});

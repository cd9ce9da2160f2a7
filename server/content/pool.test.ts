import { mkdtempSync, writeFileSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { afterAll, describe, expect, it } from "vitest";
import { processorTimeOf } from "../../io/processor-time";
import { ContentPool } from "./pool";

/** A process that behaves as badly as the content of a file could make one behave. */
const BAD = `
process.on("message", ({ task, args }) => {
  const answer = (value) => process.send({ value });
  if (task === "echo") answer(args[0]);
  else if (task === "pid") answer(process.pid);
  else if (task === "spin") for (;;);
  else if (task === "fill") { const kept = []; const more = () => { kept.push(Buffer.alloc(32 << 20, kept.length + 1)); setTimeout(more, 5); }; more(); }
  else if (task === "crash") process.exit(3);
  else if (task === "slow") setTimeout(() => answer("at last"), args[0]);
  else if (task === "problem") process.send({ problem: "It is too damaged.", status: 422 });
  else if (task === "source") process.send({ source: "The drive is gone.", asksForFile: false });
});
process.on("disconnect", () => process.exit(0));
`;

const folder = mkdtempSync(join(tmpdir(), "compass-pool-"));
const entry = join(folder, "bad.cjs");
writeFileSync(entry, BAD);
const pools: ContentPool[] = [];
const poolOf = (most: number) => {
  const pool = new ContentPool(most, { path: entry, execArgv: [] });
  pools.push(pool);
  return pool;
};
afterAll(() => {
  for (const pool of pools) pool.close();
});
const usual = { time: 10_000, memory: 1 << 30 };
const ask = (pool: ContentPool, task: string, args: unknown[] = [], limits = usual, signal?: AbortSignal) =>
  pool.ask({ task, args }, limits, signal);

describe("content processes", () => {
  it("give what a task gives, and its own words when it cannot", async () => {
    const pool = poolOf(2);
    expect(await ask(pool, "echo", [{ bytes: Uint8Array.of(1, 2, 3) }])).toEqual({ bytes: Uint8Array.of(1, 2, 3) });
    await expect(ask(pool, "problem")).rejects.toMatchObject({ name: "Problem", message: "It is too damaged.", status: 422 });
    await expect(ask(pool, "source")).rejects.toMatchObject({ name: "SourceError", message: "The drive is gone." });
  });

  it("are ended when a task takes too long, too much memory, or kills them; the next one goes on", async () => {
    const pool = poolOf(1);
    const first = await ask(pool, "pid");
    await expect(ask(pool, "spin", [], { ...usual, time: 500 })).rejects.toThrow("longer than");
    expect(await ask(pool, "pid")).not.toBe(first);
    await expect(ask(pool, "fill", [], { ...usual, memory: 200 << 20 })).rejects.toThrow("more memory than is allowed");
    await expect(ask(pool, "crash")).rejects.toThrow("could not be read to its end");
    expect(await ask(pool, "echo", ["still here"])).toBe("still here");
  });

  it("never hold up the process that asks while the slowest of sources is read", async () => {
    const pool = poolOf(2);
    let longest = 0;
    let last = processorTimeOf("thread-self");
    const beat = setInterval(() => {
      const now = processorTimeOf("thread-self");
      longest = Math.max(longest, now - last);
      last = now;
    }, 5);
    await ask(pool, "echo", ["warm"]);
    longest = 0;
    await Promise.allSettled([ask(pool, "spin", [], { ...usual, time: 1500 }), ask(pool, "slow", [1200])]);
    clearInterval(beat);
    // Processor time of the asking thread: work done there (1,200 ms and more at a time) fails this, a busy machine does not.
    console.log(`the asking process’s loop was busy for at most ${longest} ms at a time`);
    expect(longest).toBeLessThan(800);
  });

  it("take work in its order, and leave out what nobody waits for any more", async () => {
    const pool = poolOf(1);
    const gone = new AbortController();
    const slow = ask(pool, "slow", [300]);
    const waiting = ask(pool, "echo", ["never"], usual, gone.signal).catch((error: { status?: number }) => error.status);
    const after = ask(pool, "echo", ["after"]);
    gone.abort();
    expect([await slow, await waiting, await after]).toEqual(["at last", 499, "after"]);
  });

  it("end what has begun when its reader goes away, and give the process to the next", async () => {
    const pool = poolOf(1);
    const first = await ask(pool, "pid");
    const gone = new AbortController();
    const spinning = ask(pool, "spin", [], usual, gone.signal).catch((error: { status?: number }) => error.status);
    const after = ask(pool, "pid");
    gone.abort();
    expect(await spinning).toBe(499);
    expect(await after).not.toBe(first);
  });

  it("keep what was read for who asks for more of it, one task at a time, however often nobody waits any more", async () => {
    const pool = poolOf(3);
    const kept = (task: string, args: unknown[], keeps: string, signal?: AbortSignal) => pool.ask({ task, args }, usual, signal, keeps);
    const first = await kept("pid", [], "one");
    // Others go to other processes, also while that one is free.
    expect(await ask(pool, "pid")).not.toBe(first);
    const other = await kept("pid", [], "another");
    expect(other).not.toBe(first);
    const both = await Promise.all([kept("pid", [], "one"), kept("pid", [], "one"), ask(pool, "pid")]);
    expect(both.slice(0, 2)).toEqual([first, first]);
    // It is not ended when its reader goes away: what it has read is there for the next.
    const gone = new AbortController();
    const left = kept("slow", [1_500], "one", gone.signal).catch((error: { status?: number }) => error.status);
    await ask(pool, "echo", ["meanwhile"]);
    gone.abort();
    expect(await kept("pid", [], "one")).toBe(first);
    await left;
  });

  it("always leave one to short tasks, however many long ones there are", async () => {
    const pool = poolOf(2);
    const long = Array.from({ length: 2 }, () => ask(pool, "slow", [3_000], { ...usual, time: 60_000 }));
    // Were both processes given to long ones, the first of these would be done before the short one begins.
    const short = ask(pool, "echo", ["short"], { ...usual, time: 5_000 });
    expect(await Promise.race([short, ...long])).toBe("short");
    expect(await Promise.all(long)).toEqual(["at last", "at last"]);
  });
});

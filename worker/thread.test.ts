import { once } from "node:events";
import { Worker } from "node:worker_threads";
import { describe, expect, it } from "vitest";
import { askThread, toThreadFailure } from "./thread";

const made = (script: string) => new Worker(script, { eval: true });

describe("a thread that is asked", () => {
  it("answers each request in its turn", async () => {
    const thread = made(
      "const { parentPort } = require('node:worker_threads'); parentPort.on('message', (n) => parentPort.postMessage(n * 2));",
    );
    expect([await askThread(thread, 1), await askThread(thread, 21)]).toEqual([2, 42]);
    expect(["message", "error", "exit"].map((event) => thread.listenerCount(event))).toEqual([0, 0, 0]);
    await thread.terminate();
  });

  it("is not waited for when it fails, ends, or has ended before", async () => {
    const failing = made("require('node:worker_threads').parentPort.on('message', () => { throw new Error('out of room'); });");
    await expect(askThread(failing, 1)).rejects.toThrow("out of room");
    await expect(askThread(failing, 1)).rejects.toThrow("ended before it answered");
    const leaving = made("require('node:worker_threads').parentPort.on('message', () => process.exit(0));");
    await expect(askThread(leaving, 1)).rejects.toThrow("ended before it answered");
    const full = new Worker(
      "require('node:worker_threads').parentPort.on('message', () => { for (const all = []; ; ) all.push(new Array(1e5).fill({})); });",
      {
        eval: true,
        resourceLimits: { maxOldGenerationSizeMb: 32 },
      },
    );
    await expect(askThread(full, 1)).rejects.toThrow("more memory than one reader is given");
    expect(toThreadFailure(new Error("bad sector")).message).toBe("bad sector");
    const gone = made("0");
    await once(gone, "exit");
    await expect(askThread(gone, 1)).rejects.toThrow("ended before it answered");
  });
});

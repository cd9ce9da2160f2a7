import { EventEmitter } from "node:events";
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import type { Cluster } from "./cluster";
import type { Service } from "./services";
import { supervise, superviseCluster } from "./supervise";

/** A part that does nothing but end when it is asked to. */
function part(): Service & { die(code: number | null, signal?: string): void; stopped: boolean } {
  const process = new EventEmitter();
  const service = {
    process: process as unknown as Service["process"],
    stopped: false,
    stop: async () => {
      service.stopped = true;
    },
    die: (code: number | null, signal: string | null = null) => void process.emit("exit", code, signal),
  };
  return service;
}

const said: string[] = [];
beforeEach(() => {
  vi.useFakeTimers();
  said.length = 0;
  vi.spyOn(console, "error").mockImplementation((words: string) => void said.push(words));
});
afterEach(() => {
  vi.useRealTimers();
  vi.restoreAllMocks();
});

/** A supervised worker: the part that runs now, and how often one was started anew. */
function supervisedPart() {
  const worker = { present: part(), starts: 0, kept: null as unknown as ReturnType<typeof supervise> };
  worker.kept = supervise("worker", worker.present, () => {
    worker.starts += 1;
    worker.present = part();
    return worker.present;
  });
  return worker;
}

describe("a part of the application", () => {
  it("that dies is started anew after growing pauses, and given up in words after eight deaths in a row", async () => {
    const worker = supervisedPart();
    const pauses: number[] = [];
    for (let death = 1; death <= 7; death += 1) {
      worker.present.die(null, "SIGKILL");
      let waited = 0;
      while (worker.starts < death && waited < 60_000) {
        await vi.advanceTimersByTimeAsync(500);
        waited += 500;
      }
      pauses.push(waited);
    }
    expect(pauses).toEqual([500, 1_000, 2_000, 4_000, 8_000, 16_000, 30_000]);
    expect(said[0]).toBe("The worker was ended by SIGKILL; it is started again in 0.5 s.");
    worker.present.die(1);
    await vi.advanceTimersByTimeAsync(120_000);
    expect(worker.starts).toBe(7);
    expect(said.at(-1)).toMatch(/^The worker ended with 1, 8 times in a row, and is not started again\. .*start again\.$/);
    await worker.kept.stop();
  });

  it("that lived for a while, or lost its database, has its deaths forgotten; one that is stopped is not started", async () => {
    const worker = supervisedPart();
    for (let death = 1; death <= 20; death += 1) {
      if (death % 2 === 0) await vi.advanceTimersByTimeAsync(61_000);
      worker.present.die(death % 2 === 0 ? 1 : 75);
      await vi.advanceTimersByTimeAsync(1_000);
      expect(worker.starts).toBe(death);
    }
    await worker.kept.stop();
    expect(worker.present.stopped).toBe(true);
    worker.present.die(0);
    await vi.advanceTimersByTimeAsync(60_000);
    expect(worker.starts).toBe(20);
  });
});

describe("the application's own database", () => {
  it("is started again however often it does not come up, and says so each time", async () => {
    let runs = true;
    let refused = 5;
    let stopped = false;
    const cluster: Cluster = {
      url: () => "",
      isRunning: () => runs,
      restart: async () => {
        refused -= 1;
        if (refused > 0) throw new Error("The database does not start.");
        runs = true;
      },
      stop: () => {
        stopped = true;
      },
    };
    const kept = superviseCluster(cluster);
    await vi.advanceTimersByTimeAsync(5_000);
    expect(said).toEqual([]);
    runs = false;
    await vi.advanceTimersByTimeAsync(60_000);
    expect(runs).toBe(true);
    expect(said.filter((words) => words.startsWith("The database does not start."))).toHaveLength(4);
    expect(said.at(-1)).toBe("The database is back: work goes on.");
    await kept.stop();
    expect(stopped).toBe(true);
  });
});

import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import { paced } from "./paced";

beforeEach(() => vi.useFakeTimers());
afterEach(() => vi.useRealTimers());
const wait = (ms: number) => new Promise((done) => setTimeout(done, ms));
const pass = (ms: number) => vi.advanceTimersByTimeAsync(ms);

describe("what is paced", () => {
  it("is done at once when it is asked for first, and once more for all that is asked meanwhile", async () => {
    const work = vi.fn(() => wait(10));
    const { ask } = paced(800, work);
    ask();
    expect(work).toHaveBeenCalledTimes(1);
    for (let asked = 0; asked < 50; asked += 1) {
      ask();
      await pass(10);
    }
    expect(work).toHaveBeenCalledTimes(1);
    await pass(320);
    expect(work).toHaveBeenCalledTimes(2);
    await pass(5_000);
    expect(work).toHaveBeenCalledTimes(2);
    ask();
    expect(work).toHaveBeenCalledTimes(3);
  });

  it("rests as long as it took, so that it never takes more than half of the time", async () => {
    let busy = 0;
    const work = vi.fn(async () => {
      busy += 3_000;
      await wait(3_000);
    });
    const { ask } = paced(800, work);
    for (let second = 0; second < 600; second += 1) {
      ask();
      await pass(100);
    }
    expect(busy).toBeLessThanOrEqual(33_000);
    expect(busy).toBeGreaterThanOrEqual(27_000);
  });

  it("goes on when it failed, and when it never ends; once stopped it is not done again", async () => {
    const work = vi.fn<() => Promise<void>>(() => new Promise(() => undefined));
    work.mockRejectedValueOnce(new Error("away"));
    const { ask, stop } = paced(800, work);
    ask();
    ask();
    await pass(801);
    expect(work).toHaveBeenCalledTimes(2);
    ask();
    await pass(10_001);
    expect(work).toHaveBeenCalledTimes(3);
    ask();
    stop();
    await pass(60_000);
    ask();
    expect(work).toHaveBeenCalledTimes(3);
  });
});

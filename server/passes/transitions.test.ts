import { describe, expect, it } from "vitest";
import { afterEvent, isOver, type PassEvent, type Wanted } from "./transitions";

const EVENTS: PassEvent[] = ["batch", "slice", "end", "given out", "cut off"];
const WANTED: Wanted[] = ["run", "pause", "stop"];

describe("what becomes of a pass", () => {
  it("goes on as long as nothing else is wanted, and pauses or stops between two batches", () => {
    for (const event of ["batch", "slice", "cut off"] as const) {
      expect(afterEvent(event, "run", false)).toEqual({ state: "running", after: "go on" });
      expect(afterEvent(event, "pause", false)).toEqual({ state: "paused", after: "paused" });
      expect(afterEvent(event, "stop", false)).toEqual({ state: "stopped", after: "stopped" });
    }
  });

  it("gives out what it has in hand before it is stopped; a pause keeps it in hand", () => {
    expect(afterEvent("batch", "stop", true)).toEqual({ state: "running", after: "finish" });
    expect(afterEvent("cut off", "stop", true)).toEqual({ state: "queued", after: "finish" });
    expect(afterEvent("batch", "pause", true)).toEqual({ state: "paused", after: "paused" });
    expect(afterEvent("given out", "stop", true).state).toBe("stopped");
  });

  it("is done when its reader has come to its end, whatever was asked for meanwhile", () => {
    for (const wanted of WANTED) for (const inHand of [false, true]) expect(afterEvent("end", wanted, inHand).state).toBe("done");
  });

  it("never ends without a reason, and never runs on after a pause", () => {
    for (const event of EVENTS)
      for (const inHand of [false, true]) {
        if (event !== "end" && event !== "given out") expect(isOver(afterEvent(event, "run", inHand).state)).toBe(false);
        if (event !== "end" && event !== "given out") expect(afterEvent(event, "pause", inHand).state).toBe("paused");
      }
  });
});

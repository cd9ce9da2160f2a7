import type { PassState } from "../database/schema";

/** What happens to a pass that a worker holds. */
export type PassEvent =
  /** A batch is stored, and the reader has more. */
  | "batch"
  /** The same, and the slice is over: the next one is queued. */
  | "slice"
  /** The reader has come to its end. */
  | "end"
  /** It has given out what it had in hand, after a stop was asked for. */
  | "given out"
  /** A pause or stop is carried out without waiting for the reader. */
  | "cut off";

export type Wanted = "run" | "pause" | "stop";

/** What a worker does after an event. "finish": what is in hand is given out first, and then the pass is stopped. */
export type After = "go on" | "paused" | "stopped" | "finish";

/** From “running”: the next state, and what the worker does. With something in hand a stop waits until it is given out. */
const TABLE: Readonly<Record<PassEvent, Readonly<Record<Wanted, readonly [state: PassState, after: After]>>>> = {
  batch: { run: ["running", "go on"], pause: ["paused", "paused"], stop: ["stopped", "stopped"] },
  slice: { run: ["running", "go on"], pause: ["paused", "paused"], stop: ["stopped", "stopped"] },
  end: { run: ["done", "go on"], pause: ["done", "go on"], stop: ["done", "go on"] },
  "given out": { run: ["stopped", "go on"], pause: ["stopped", "go on"], stop: ["stopped", "go on"] },
  "cut off": { run: ["running", "go on"], pause: ["paused", "paused"], stop: ["stopped", "stopped"] },
};

/** @param inHand whether the pass has finds that are not given out yet */
export function afterEvent(event: PassEvent, wanted: Wanted, inHand: boolean): { state: PassState; after: After } {
  const [state, after] = TABLE[event][wanted];
  if (after !== "stopped" || !inHand) return { state, after };
  return { state: event === "cut off" ? "queued" : "running", after: "finish" };
}

/** States that a pass does not leave any more. */
export const isOver = (state: PassState): boolean => state === "done" || state === "stopped";

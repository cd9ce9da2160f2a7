import type { KeyboardEvent } from "react";

export interface ListKeys {
  /** Where each moving key leads: indices of the list, which may lie outside of it. */
  readonly steps: Readonly<Record<string, number>>;
  /** With Shift, a moving key ticks what lies between. */
  readonly ranging: boolean;
  readonly move: (index: number, ranging: boolean) => void;
  readonly enlarge: () => void;
  /** Ticks the present item; null: there is none. */
  readonly tick: ((ranging: boolean) => void) | null;
  readonly all: () => void;
}

/** Does what a key means in a list or grid of items; keys that mean nothing there are left to the browser. */
export function handleListKey(event: KeyboardEvent, { steps, ranging, move, enlarge, tick, all }: ListKeys): void {
  const target = steps[event.key];
  if (target !== undefined) move(target, event.shiftKey && ranging);
  else if (event.key === " ") enlarge();
  else if (event.key === "Enter" && tick) tick(event.shiftKey);
  else if (event.key === "a" && (event.ctrlKey || event.metaKey)) all();
  else return;
  event.preventDefault();
}

import { MessageChannel, type MessagePort, receiveMessageOnPort } from "node:worker_threads";
import type { ByteSource } from "../core/bytes/byte-source";
import type { Range } from "../core/bytes/range-set";
import { formatById } from "../core/formats/registry";
import type { Find } from "../core/sweep/find";
import { type ScannedUnit, type SweepPlan, unitsFrom } from "../core/sweep/sweep";
import type { SweepOptions } from "../core/sweep/unit";
import type { SourceAt } from "../io/open-source";
import { startThread } from "./thread";

/** A find as it goes from thread to thread: formats are known by their ids. */
export type SentFind = Omit<Find, "format"> & { readonly format: string };
export type SentUnit =
  | { readonly index: number; readonly finds: readonly SentFind[]; readonly unreadable: readonly Range[] }
  | { readonly problem: string };

/** Numbers the threads share: the stretch to take next, how many have been settled, how many messages were sent. */
export const SHARED = { next: 0, settled: 1, sent: 2, stop: 3 } as const;
/** Stretches a thread may be ahead of what is settled. */
export const AHEAD_OF_SETTLED = 16;

export interface SweepThreadData extends SourceAt {
  readonly ranges: SweepPlan["domain"]["ranges"];
  readonly options: SweepOptions;
  readonly from: number;
  readonly shared: SharedArrayBuffer;
  readonly port: MessagePort;
}

/** Threads that all say nothing for so long are dead. Milliseconds. */
const SILENCE = 600_000;
const LISTEN = 1000;

/**
 * Looks through the stretches on several threads at once and gives them in their order. This thread waits for the others without
 * returning to its event loop.
 * @param noteBad is given each stretch that a thread could not read
 */
export function threadedScan(source: SourceAt, threads: number, noteBad: (range: Range) => void) {
  return function* scan(_: ByteSource, { domain, options }: SweepPlan, from: number): Generator<ScannedUnit, void, void> {
    const shared = new SharedArrayBuffer(16);
    const numbers = new Int32Array(shared);
    const started = Array.from({ length: threads }, () => {
      const { port1, port2 } = new MessageChannel();
      const data: SweepThreadData = { ...source, ranges: domain.ranges, options, from, shared, port: port2 };
      return { port: port1, thread: startThread("sweep-thread", data, [port2]) };
    });
    const waiting = new Map<number, readonly Find[]>();
    try {
      let index = 0;
      for (const unit of unitsFrom(domain, from)) {
        for (let silent = 0; !waiting.has(index); ) {
          const before = Atomics.load(numbers, SHARED.sent);
          for (const { port } of started) receive(port, waiting, noteBad);
          if (waiting.has(index)) break;
          silent = Atomics.wait(numbers, SHARED.sent, before, LISTEN) === "timed-out" ? silent + LISTEN : 0;
          if (silent >= SILENCE) throw new Error("A thread of the sweep has died.");
        }
        yield { unit, finds: waiting.get(index) as readonly Find[] };
        waiting.delete(index);
        index += 1;
        Atomics.store(numbers, SHARED.settled, index);
        Atomics.notify(numbers, SHARED.settled);
      }
    } finally {
      Atomics.store(numbers, SHARED.stop, 1);
      Atomics.notify(numbers, SHARED.settled);
      for (const { port, thread } of started) {
        port.close();
        void thread.terminate();
      }
    }
  };
}

function receive(port: MessagePort, waiting: Map<number, readonly Find[]>, noteBad: (range: Range) => void): void {
  for (let received = receiveMessageOnPort(port); received; received = receiveMessageOnPort(port)) {
    const unit = received.message as SentUnit;
    if ("problem" in unit) throw new Error(unit.problem);
    for (const range of unit.unreadable) noteBad(range);
    waiting.set(
      unit.index,
      unit.finds.flatMap((find) => {
        const format = formatById.get(find.format);
        return format ? [{ ...find, format }] : [];
      }),
    );
  }
}

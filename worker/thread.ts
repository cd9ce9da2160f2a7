import { existsSync } from "node:fs";
import { join } from "node:path";
import { type TransferListItem, Worker } from "node:worker_threads";

const here = import.meta.dirname;

/** Starts a thread of this folder by its name: the built file where there is one, else the source through the loader. */
export function startThread(name: string, workerData: unknown, transferList: TransferListItem[] = []): Worker {
  const built = join(here, `${name}.js`);
  if (existsSync(built)) return new Worker(built, { workerData, transferList });
  // Threads do not inherit the loader: a line of plain script registers it first.
  const entry = JSON.stringify(join(here, `${name}.ts`));
  const boot = `import("tsx/esm/api").then((api) => { api.register(); return import(${entry}); })`;
  return new Worker(boot, { eval: true, workerData, transferList });
}

/**
 * Asks a thread that answers each message with one. @throws Error when the thread fails or ends instead of answering, also when it has
 * ended before
 */
export function askThread<T>(thread: Worker, request: unknown): Promise<T> {
  return new Promise((done, failed) => {
    const ended = () => settle(() => failed(new Error("The thread ended before it answered.")));
    const answered = (answer: T) => settle(() => done(answer));
    const broken = (error: unknown) => settle(() => failed(error));
    const settle = (how: () => void) => {
      thread.off("message", answered).off("error", broken).off("exit", ended);
      how();
    };
    thread.on("message", answered).on("error", broken).on("exit", ended);
    // One that has ended has no number any more.
    if (thread.threadId < 0) ended();
    else thread.postMessage(request);
  });
}

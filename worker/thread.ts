import { existsSync } from "node:fs";
import { join } from "node:path";
import { setFlagsFromString } from "node:v8";
import { type TransferListItem, Worker, type WorkerOptions } from "node:worker_threads";

const here = import.meta.dirname;

/**
 * Keeps new objects of a reader among the new ones. Where the first of millions of records are kept and the later ones are not, the runtime would put all that
 * come among the old ones, and take each for needed that another dead one points to: a pass over dated trees took a third longer for that.
 */
const READERS_FLAG = "--no-allocation-site-pretenuring";
setFlagsFromString(READERS_FLAG);

/**
 * Heap of a thread at most, MiB. A thread that asks for more ends alone, and the worker lives; and the runtime collects the sooner the less a
 * heap may grow: with the default of a large machine a pass over a million files takes half as much memory again.
 */
const HEAP_MIB = 1_536;
const limits: WorkerOptions = { resourceLimits: { maxOldGenerationSizeMb: HEAP_MIB } };

/** Starts a thread of this folder by its name: the built file where there is one, else the source through the loader. */
export function startThread(name: string, workerData: unknown, transferList: TransferListItem[] = []): Worker {
  const built = join(here, `${name}.js`);
  if (existsSync(built)) return new Worker(built, { ...limits, workerData, transferList });
  // Threads do not inherit the loader: a line of plain script registers it first.
  const entry = JSON.stringify(join(here, `${name}.ts`));
  const boot = `import("tsx/esm/api").then((api) => { api.register(); return import(${entry}); })`;
  return new Worker(boot, { ...limits, eval: true, workerData, transferList });
}

/** Says what ended a thread: as it is, or, where its heap was full, in words for people. */
export function toThreadFailure(error: unknown): Error {
  if ((error as NodeJS.ErrnoException).code !== "ERR_WORKER_OUT_OF_MEMORY") return error as Error;
  const words = `This needs more memory than one reader is given (${HEAP_MIB} MiB). What was found so far is kept. Narrow it, to a folder or to a part of the source, and start it again.`;
  return new Error(words, { cause: error });
}

/**
 * Asks a thread that answers each message with one. @throws Error when the thread fails or ends instead of answering, also when it has
 * ended before
 */
export function askThread<T>(thread: Worker, request: unknown): Promise<T> {
  return new Promise((done, failed) => {
    const ended = () => settle(() => failed(new Error("The thread ended before it answered.")));
    const answered = (answer: T) => settle(() => done(answer));
    const broken = (error: unknown) => settle(() => failed(toThreadFailure(error)));
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

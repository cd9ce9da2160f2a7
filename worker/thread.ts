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

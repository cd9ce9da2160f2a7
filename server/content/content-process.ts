import { SourceError } from "../../io/source-error";
import { database } from "../database/connection";
import { logReaderFaults } from "../log/reader-faults";
import { reuseOpened, takeMetBad } from "../previews/content";
import { codeOf, Problem } from "../problem";
import { noteUnreadable } from "../sources/unreadable";
import type { TaskAnswer, TaskRequest } from "./pool";
import { tasks } from "./tasks";

logReaderFaults();

/** One process of the pool: does a task at a time, and ends with who started it. */
async function answer({ task, args }: TaskRequest): Promise<TaskAnswer> {
  try {
    const run = tasks[task as keyof typeof tasks] as ((...args: readonly unknown[]) => unknown) | undefined;
    if (!run) throw new Error(`there is no task “${task}”`);
    const value = await run(...args);
    await keepMetBad();
    return { value };
  } catch (error) {
    if (error instanceof Problem) return { problem: error.message, status: error.status };
    if (error instanceof SourceError) return { source: error.message, asksForFile: error.asksForFile };
    return { fault: (error as Error).stack ?? String(error), code: codeOf(error) };
  }
}

/** Bad sectors that were met are kept with their source, so that no other reader waits for them. */
async function keepMetBad(): Promise<void> {
  for (const [sourceId, ranges] of takeMetBad()) await database().db.transaction((tx) => noteUnreadable(tx, sourceId, ranges));
}

reuseOpened();
process.on("message", (request: TaskRequest) => {
  // Whoever asked may have died meanwhile: then nobody waits for the answer.
  void answer(request).then((answered) => process.send?.(answered, undefined, {}, () => undefined));
});
process.on("disconnect", () => process.exit(0));
// Ctrl-C reaches the whole group; the process that started this one decides when it ends.
process.on("SIGINT", () => undefined);

import { SourceError } from "../../io/source-error";
import { reuseOpened } from "../previews/content";
import { codeOf, Problem } from "../problem";
import type { TaskAnswer, TaskRequest } from "./pool";
import { tasks } from "./tasks";

/** One process of the pool: does a task at a time, and ends with who started it. */
async function answer({ task, args }: TaskRequest): Promise<TaskAnswer> {
  try {
    const run = tasks[task as keyof typeof tasks] as ((...args: readonly unknown[]) => unknown) | undefined;
    if (!run) throw new Error(`there is no task “${task}”`);
    return { value: await run(...args) };
  } catch (error) {
    if (error instanceof Problem) return { problem: error.message, status: error.status };
    if (error instanceof SourceError) return { source: error.message, asksForFile: error.asksForFile };
    return { fault: (error as Error).stack ?? String(error), code: codeOf(error) };
  }
}

reuseOpened();
process.on("message", (request: TaskRequest) => {
  void answer(request).then((answered) => process.send?.(answered));
});
process.on("disconnect", () => process.exit(0));
// Ctrl-C reaches the whole group; the process that started this one decides when it ends.
process.on("SIGINT", () => undefined);

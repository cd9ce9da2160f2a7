import { type ChildProcess, spawn } from "node:child_process";

/** What a command came to. */
export interface Finished {
  readonly ok: boolean;
  /** What it wrote, its errors too, without the space around it. */
  readonly output: string;
}

const running = new Set<ChildProcess>();
let ending = false;

/** Thrown by `runCommand` once this process is ending: nothing new is begun. */
export class EndingError extends Error {}

/**
 * Runs a command to its end without stopping this process from hearing signals. Its group is that of this process, so that Ctrl-C
 * reaches it too.
 * @throws EndingError when this process is ending
 */
export function runCommand(
  program: string,
  args: readonly string[],
  options: { cwd?: string; env?: NodeJS.ProcessEnv } = {},
): Promise<Finished> {
  if (ending) return Promise.reject(new EndingError("ending"));
  return new Promise((done, failed) => {
    const child = spawn(program, args, { stdio: ["ignore", "pipe", "pipe"], ...options });
    running.add(child);
    let output = "";
    for (const stream of [child.stdout, child.stderr])
      stream.setEncoding("utf8").on("data", (text: string) => {
        output = (output + text).slice(-100_000);
      });
    const over = (ok: boolean) => {
      running.delete(child);
      if (ending) failed(new EndingError("ending"));
      else done({ ok, output: output.trim() });
    };
    child.on("error", (error) => {
      output = error.message;
      over(false);
    });
    // What it started may keep its output open: its own end is enough.
    child.on("exit", (code) => over(code === 0));
  });
}

/** Ends what is running, and lets nothing new begin. */
export function endCommands(): void {
  ending = true;
  for (const child of running) child.kill("SIGTERM");
}

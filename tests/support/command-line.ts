import { spawnSync } from "node:child_process";

/** Calls the command line as a person would, in a process of its own. */
export function compass(...args: string[]) {
  const done = spawnSync(process.execPath, ["scripts/compass.mjs", ...args], { encoding: "utf8", maxBuffer: 1 << 28 });
  /** Its output as the objects of its lines (`--json`). */
  const lines = () =>
    done.stdout
      .split("\n")
      .filter(Boolean)
      .map((line) => JSON.parse(line) as Record<string, unknown>);
  return { code: done.status, out: done.stdout, err: done.stderr.trim(), lines };
}

import { spawnSync } from "node:child_process";

export interface Measured {
  /** Wall-clock seconds of the quickest of the runs: the others only show what else the machine was doing. */
  readonly seconds: number;
  /** The largest resident set seen, MiB. */
  readonly peakMiB: number;
}

/** Runs a command several times under the system's own `time`. @throws Error with its last words when it fails */
export function measure(runs: number, command: string, ...args: string[]): Measured {
  let seconds = Number.POSITIVE_INFINITY;
  let peakMiB = 0;
  for (let run = 0; run < runs; run += 1) {
    const done = spawnSync("/usr/bin/time", ["-f", "%e %M", command, ...args], {
      stdio: ["ignore", "ignore", "pipe"],
      encoding: "utf8",
      maxBuffer: 1 << 28,
    });
    if (done.status !== 0) throw new Error(`${command} ${args.join(" ")}: ${done.stderr.slice(-400)}`);
    const [wall, kib] = (done.stderr.trim().split("\n").pop() ?? "").split(" ").map(Number);
    seconds = Math.min(seconds, wall as number);
    peakMiB = Math.max(peakMiB, (kib as number) / 1024);
  }
  return { seconds, peakMiB };
}

/** A row of the report: ours, theirs, and how many times as long ours took. */
export function row(what: string, ours: Measured, other: string, theirs: Measured): string {
  const ratio = ours.seconds / theirs.seconds;
  return `| ${what} | ${ours.seconds.toFixed(2)} s, ${ours.peakMiB.toFixed(0)} MiB | ${other}: ${theirs.seconds.toFixed(2)} s, ${theirs.peakMiB.toFixed(0)} MiB | ${ratio.toFixed(2)} |`;
}

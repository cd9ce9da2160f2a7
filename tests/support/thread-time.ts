import { readFileSync } from "node:fs";

/** What damaged input may cost: milliseconds of processor time, a round. */
export const SLOWEST_MS = 5_000;

/** Ticks of the kernel's clock a second, as it shows times to programs (sysconf(3), _SC_CLK_TCK; 100 on every Linux this runs on). */
const TICKS = 100;

/**
 * Reads the processor time this thread has used so far, in milliseconds, to a hundredth of a second. Unlike the process's time it leaves out
 * the other tests that run in threads of the same process, and unlike a clock it leaves out the machine's other work.
 * Layout: proc(5), /proc/pid/stat, fields 14 (utime) and 15 (stime); the name in field 2 may hold anything up to the last ")".
 */
export function threadTime(): number {
  const stat = readFileSync("/proc/thread-self/stat", "latin1");
  const fields = stat.slice(stat.lastIndexOf(")") + 2).split(" ");
  return ((Number(fields[11]) + Number(fields[12])) * 1000) / TICKS;
}

/**
 * Runs something and gives the milliseconds of processor time it took. What took suspiciously long runs twice more, and the least counts:
 * a collection of garbage, or a machine that does something else, comes once, a slow reader each time. A true hang meets the test's time limit.
 */
export function leastTime<T>(run: () => T): { readonly result: T; readonly time: number } {
  let time = Number.POSITIVE_INFINITY;
  for (let tries = 0; ; tries += 1) {
    const begun = threadTime();
    const result = run();
    time = Math.min(time, threadTime() - begun);
    if (time < SLOWEST_MS / 5 || tries === 2) return { result, time };
  }
}

import { readFileSync } from "node:fs";

/**
 * Returns the processor time a process or the calling thread has used, in milliseconds in steps of 10; 0 where the system does not say.
 * Source: proc(5), /proc/pid/stat, fields 14 (utime) and 15 (stime), in ticks of a hundredth of a second.
 */
export function processorTimeOf(which: number | "thread-self"): number {
  try {
    // The name in field 2 stands in parentheses and may hold anything; field 3 follows the last of them.
    const fields = readFileSync(`/proc/${which}/stat`, "latin1").split(") ").at(-1)?.split(" ") ?? [];
    return (Number(fields[11]) + Number(fields[12])) * 10 || 0;
  } catch {
    return 0;
  }
}

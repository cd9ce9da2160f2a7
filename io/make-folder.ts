import { mkdirSync, statSync } from "node:fs";
import { dirname } from "node:path";

/**
 * Makes a folder and those above it that are missing, one by one: where the system answers for ever that something above is missing
 * (below /proc, for instance), the runtime's own way of making them all at once never ends.
 * @throws the system's error when one cannot be made
 */
export function makeFolder(path: string): void {
  const missing: string[] = [];
  for (let at = path; !statSync(at, { throwIfNoEntry: false })?.isDirectory() && dirname(at) !== at; at = dirname(at)) missing.push(at);
  for (const folder of missing.reverse()) {
    try {
      mkdirSync(folder);
    } catch (error) {
      if ((error as NodeJS.ErrnoException).code !== "EEXIST" || !statSync(folder).isDirectory()) throw error;
    }
  }
}

import { createHash } from "node:crypto";
import { readdirSync, readFileSync } from "node:fs";
import { join } from "node:path";
import { expect } from "vitest";
import type { WholeRestore } from "../support/restores";

/** How long faults go on: "short" as a part of `npm test`, "long" in `npm run faults`. */
export const LONG = process.env.COMPASS_FAULTS === "long";

export const sha256 = (path: string): string => createHash("sha256").update(readFileSync(path)).digest("hex");

/** All files and links below a folder with what is in them: what must be the same before and after. */
export function stateOf(folder: string): string[] {
  return readdirSync(folder, { recursive: true, withFileTypes: true })
    .map((entry) => {
      const path = join(entry.parentPath, entry.name);
      return `${path} ${entry.isFile() ? sha256(path) : entry.isDirectory() ? "folder" : "other"}`;
    })
    .sort();
}

/**
 * The three checks after every fault of a restore: nothing lost (each file has a result), nothing twice (the files below the destination
 * are those of the results, and no working file stayed), nothing called what it is not (each file is what its result says, and what is
 * verified is what the image's maker wrote).
 * @param chosen how many files were to be restored
 * @param truth SHA-256 of each whole file by its path, from the image's manifest
 */
export function checkRestore(restore: WholeRestore, chosen: number, truth: ReadonlyMap<string, string | undefined>): void {
  const { results, root } = restore;
  expect(results).toHaveLength(chosen);
  for (const { state, problem } of results) {
    expect(["verified", "gaps", "skipped", "failed"]).toContain(state);
    if (state === "failed") expect(problem).toMatch(/^\S.*\.$/s);
  }
  const written = results.filter(({ state, since }) => (state === "verified" || state === "gaps") && since === null);
  const outputs = written.map(({ output }) => output as string);
  expect(new Set(outputs).size).toBe(outputs.length);
  for (const { output, sha256: said, state, path } of written) {
    expect(sha256(output as string), path).toBe(said);
    const known = truth.get(path.normalize("NFC"));
    if (state === "verified" && known) expect(said, path).toBe(known);
  }
  const there = stateOf(root).filter((line) => !line.endsWith(" folder"));
  expect(there.map((line) => line.slice(0, line.lastIndexOf(" ")))).toEqual(outputs.sort());
}

/** Nothing is left of what is written before it gets its name. */
export function checkNothingLeft(folder: string): void {
  expect(readdirSync(folder, { recursive: true }).filter((name) => String(name).includes(".restoring-"))).toEqual([]);
}

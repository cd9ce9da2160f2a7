import { execFileSync } from "node:child_process";
import { existsSync, mkdirSync, renameSync, rmSync, writeFileSync } from "node:fs";
import { join } from "node:path";

const DAY = 86_400_000;
const PER_FOLDER = 500;
/** One file in so many is another in the next state. */
const CHANGES = 100;

/** Dated trees of so many files each, the unchanged ones linked as a backup links them. @returns the folder they lie in */
export function datedTrees(folder: string, states: number, files: number): string {
  const set = join(folder, `dated-trees-${states}-${files}`);
  if (existsSync(set)) return set;
  const working = `${set}.making`;
  rmSync(working, { recursive: true, force: true });
  const nameOf = (state: number) =>
    new Date(Date.UTC(2025, 0, 1, 10) + state * DAY).toISOString().slice(0, 19).replace("T", "-").replaceAll(":", "");
  const fileOf = (state: string, file: number) =>
    join(working, "Desk", state, "Drive", `Folder ${Math.floor(file / PER_FOLDER)}`, `file ${file}.txt`);
  for (let file = 0; file < files; file += 1) {
    const path = fileOf(nameOf(0), file);
    if (file % PER_FOLDER === 0) mkdirSync(join(path, ".."), { recursive: true });
    writeFileSync(path, `file ${file}\n`.repeat((file % 7) + 1));
  }
  for (let state = 1; state < states; state += 1) {
    const [before, now] = [nameOf(state - 1), nameOf(state)];
    execFileSync("cp", ["-al", join(working, "Desk", before), join(working, "Desk", now)]);
    for (let file = state % CHANGES; file < files; file += CHANGES) {
      const path = fileOf(now, file);
      rmSync(path);
      writeFileSync(path, `file ${file} of state ${state}\n`);
    }
  }
  renameSync(working, set);
  return set;
}

import { mkdirSync, readdirSync, readFileSync, renameSync, rmSync, statSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import type { KeptIndexes } from "../core/bytes/unpack-index";

/** Indexes that are kept: of the files used last. */
const MOST_KEPT = 32;

/** Keeps indexes of large compressed files in a folder. What cannot be written there is made again. */
export function indexesIn(folder: string): KeptIndexes {
  const fileOf = (key: string) => join(folder, `${key}.index`);
  return {
    load(key) {
      try {
        return readFileSync(fileOf(key));
      } catch {
        return null;
      }
    },
    save(key, index) {
      const working = `${fileOf(key)}.${process.pid}.working`;
      try {
        mkdirSync(folder, { recursive: true });
        try {
          writeFileSync(working, index);
          renameSync(working, fileOf(key));
        } finally {
          rmSync(working, { force: true });
        }
        dropOld(folder);
      } catch {
        // Full, or closed to us: the next opening takes as long as this one did.
      }
    },
  };
}

function dropOld(folder: string): void {
  const files = readdirSync(folder).map((name) => ({ name, age: statSync(join(folder, name), { throwIfNoEntry: false })?.mtimeMs ?? 0 }));
  for (const { name } of files.sort((a, b) => b.age - a.age).slice(MOST_KEPT)) rmSync(join(folder, name), { force: true });
}

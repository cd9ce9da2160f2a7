import { execFileSync } from "node:child_process";
import { createHash } from "node:crypto";
import { existsSync, mkdirSync, renameSync, rmSync, writeFileSync } from "node:fs";
import { join } from "node:path";

const IN_A_FOLDER = 500;

/** Makes a TAR and a ZIP archive of so many small files, once. @returns their paths */
export function archivesOfMany(folder: string, count: number): { readonly tar: string; readonly zip: string } {
  const made = { tar: join(folder, `many-${count}.tar`), zip: join(folder, `many-${count}.zip`) };
  if (existsSync(made.tar) && existsSync(made.zip)) return made;
  const files = join(folder, "many-files");
  rmSync(files, { recursive: true, force: true });
  for (let i = 0; i < count; i += 1) {
    const below = join(files, `plates ${Math.floor(i / IN_A_FOLDER)}`);
    if (i % IN_A_FOLDER === 0) mkdirSync(below, { recursive: true });
    // Half of it does not pack, as with what archives mostly hold.
    const noise = createHash("sha512").update(String(i)).digest();
    writeFileSync(join(below, `plate ${i}.dat`), Buffer.concat([...Array(i % 20).fill(noise), Buffer.alloc((i % 20) * 64, 97 + (i % 26))]));
  }
  for (const [path, ...command] of [
    [made.tar, "tar", "-C", files, "-cf", `${made.tar}.making`, "."],
    [made.zip, "7z", "a", "-tzip", "-mx1", `${made.zip}.making`, `${files}/.`],
  ] as const) {
    const [program, ...args] = command;
    rmSync(`${path}.making`, { force: true });
    execFileSync(program as string, args, { stdio: "ignore" });
    renameSync(`${path}.making`, path);
  }
  rmSync(files, { recursive: true });
  return made;
}

import { existsSync, lstatSync, realpathSync, statSync } from "node:fs";
import { dirname, resolve, sep } from "node:path";
import { liesOnDrive } from "../io/drives";
import { Usage } from "./usage";

/** The folder that is written to, as an absolute path. @throws Usage when it is the source, lies in it or on its drive, or is a file */
export function destination(to: string | undefined, source: string): string {
  if (to === undefined) throw new Usage("Say where to restore to: --to DIR.");
  const root = resolve(to);
  if (existsSync(root) && !lstatSync(realpathSync(root)).isDirectory()) throw new Usage(`${to} is a file, not a folder to restore to.`);
  if (existsSync(source) && liesIn(root, realpathSync(source)))
    throw new Usage("The destination is the source itself, or lies in it: choose another folder.");
  if (statSync(source, { throwIfNoEntry: false })?.isBlockDevice() && liesOnDrive(root, source))
    throw new Usage(
      "The destination is on the drive that is read: what is still to be found there could be destroyed. Choose another device.",
    );
  return root;
}

/** Whether a folder, or the nearest one above it that is there, is another one or lies below it. */
function liesIn(folder: string, source: string): boolean {
  const real = realpathSync(nearest(folder));
  return real === source || real.startsWith(`${source}${sep}`);
}

/** A folder, or the nearest one above it that is there. */
export function nearest(folder: string): string {
  let at = folder;
  while (!existsSync(at)) at = dirname(at);
  return at;
}
